// Package work is the job itself, without text for people: connect, survey, compare, draft,
// rehearse, change, lend, keep. Each use case is a method of [Workspace] that reads what is
// kept, asks the core, and returns values; a command, a terminal walk-through, a report, a
// daemon and a test call the same ones.
//
// What changes a system is prepared first ([Workspace.PrepareApply] and its like): the guards
// have their say, and whoever called shows the change and asks. Only then is it run
// ([Prepared.Run]). Where a signature or an elevation is at stake, the question comes back
// through a function that must agree ([Workspace.Answer]). Nothing here reads a terminal.
//
// Progress and remarks go out as events, through [Options]. Long work ends when its context
// does; what it has finished is kept, and the same call goes on from there.
//
// Errors keep the sentinel of the package that made them; [BlameOf] sorts them by what they
// are about.
package work
