// Package bygone says whether what a source held at the time of one of many surveys allowed a call.
//
// Surveys are kept as what holds from one to another: a record, and the surveys that showed it so. An index of
// each survey would cost as many times what one of today costs, and somebody who surveys every day has hundreds.
// It is not needed either. What an identity may do hangs on the groups that it was in, on what those and it were
// granted, and on the rules; all others' access has no say. So whoever is asked about is taken a few at a time
// ([atOnce]): the records that concern them make a small estate, which is the same over a run of surveys between
// which none of those records changed. One index is built for a run.
//
// Most calls that nothing of today allows were never allowed by anything. They are told by one estate of all
// that ever was, without rules and conditions, which allows at least what any survey did.
package bygone
