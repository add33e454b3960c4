// Package risk says how likely it is that access is needed which nobody uses today.
//
// Where an identity may still reach with a permission is cut into disjoint parts
// ([Past.Parts]): the nodes on which it used it, those on which its peers did, names like
// those that it used, what lies beside, further away, anywhere; and where it never used the
// permission, the nodes on which it does other things, what lies beside those, the rest. Parts
// of one [Class] are told apart by a few facts as of the day (the bin): silence, number of
// days, how many such places there were before.
//
// How often a part is needed within the next [Horizon] days is counted on the estate's own
// past ([Learn]): as of landmarks 90, 120, 150 and more days ago the same parts are made from
// what was known then, and it is looked up what was needed since (landmarking: van Houwelingen,
// Dynamic prediction by landmarking in event history analysis, Scandinavian Journal of
// Statistics, 2007). Each class has a ridge logistic regression on the facts, which starts
// from a prior that is worth [priorWeight] observations. Landmarks that look at the same days are no more
// evidence than those days, and a landmark knows less than today does: what was never used counts for as much
// longer as it was not used since. What was used by those who stopped altogether is fitted apart from what others
// used and do not use now, and so is whether they do anything again ([Model.Back]). How often within [Soon]
// days is counted and fitted beside it, in the same way.
// What is told is the mean over what a chance may be, not its likeliest value: see logit.chance.
//
// Where no log shows a permission ([Past.Hidden]) it is learned where logs are on, with one
// container at a time covered up; of what no log shows anywhere ([Past.Shows]) nothing is. What an
// edit takes away is told by [Lost], and how likely an
// identity breaks by that by [Model.Broken].
//
// What was granted at a landmark is told from today's grants and when they were made; whoever
// left or moved since is missing. A past too short for a landmark of 90 days is looked at with
// half of it, and its chances are carried to 90 days as ones that are the same every day.
package risk
