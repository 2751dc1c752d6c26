package result

// Known is a result with the calls that give it.
type Known struct {
	Result Result
	Calls  string
}

// All lists every result, in the order of the documentation.
var All = []Known{
	{Error{}, "any, on failure"},
	{Begun{}, "begin"}, {Presets{}, "preset"}, {Opened{}, "open"}, {Demo{}, "demo"}, {Person{}, "person"}, {Trust{}, "trust"},
	{Guide{}, "guide"},
	{Changes{}, "changes"}, {Compared{}, "compare, deployments compare"}, {ComparePage{}, "compare --html, review show --html"},
	{Committed{}, "commit"}, {Synced{}, "sync"},
	{Conflicts{}, "conflicts, promote --settle"}, {Resolved{}, "resolve"}, {Locked{}, "lock"}, {Unlocked{}, "unlock"}, {Locks{}, "locks"},
	{Overlaps{}, "overlaps"}, {Event{}, "watch, an object a line"}, {Restored{}, "restore"}, {RescueCopies{}, "restore --rescued"},
	{Discarded{}, "discard"},
	{Parked{}, "park"}, {ParkedWork{}, "park, without a name"}, {Unparked{}, "unpark"},
	{History{}, "history"}, {Shown{}, "show"}, {Authors{}, "authors"}, {Found{}, "find"},
	{Branched{}, "branch NAME"}, {Branches{}, "branch"}, {Went{}, "go"}, {Merged{}, "merge, revert"}, {Released{}, "release NAME"},
	{Releases{}, "release list"}, {Bundles{}, "release plan"}, {BundleShown{}, "release plan NAME"},
	{Review{}, "review open, show, comment, approve, decline, merge, withdraw"}, {Reviews{}, "review list"},
	{Inspected{}, "inspect"}, {Summary{}, "inspect --summary"}, {Split{}, "split"}, {Joined{}, "join"}, {RecipeTried{}, "recipe try"},
	{RecipesChecked{}, "recipe check"}, {Kinds{}, "kinds"},
	{EnvironmentChanged{}, "env add, env rename, env remove"}, {Environments{}, "env list"}, {Prepared{}, "env prepare"}, {Refreshed{},
		"env refresh"},
	{Captured{}, "capture"},
	{Deployed{}, "deploy, rollback"}, {Lost{}, "rollback --lost"}, {Drifts{}, "drift"}, {Kept{}, "drift --keep"}, {Settled{}, "settle"},
	{Rows{}, "rows track, rows untrack"}, {Verified{}, "verify"}, {Deployments{}, "deployments"}, {Deployment{}, "deployments show"},
	{Attempts{}, "deployments --attempts"}, {Proved{}, "deployments prove"}, {Report{}, "deployments --html, --sheet"},
	{Overview{}, "pipeline show"}, {PipelineChecked{}, "pipeline check"}, {Declared{}, "pipeline add"}, {Items{}, "pipeline items"},
	{Promoted{}, "promote"},
	{Scheduled{}, "promote --at"},
	{Promotions{}, "promote --as-far-as, promote --ready"},
	{PlannedMoves{}, "promote --planned, --cancel, --due"},
	{Approved{}, "approve"},
	{Bookings{}, "book"}, {Owed{}, "owed"}, {Backfills{}, "backfill"}, {Lookalikes{}, "lookalikes"}, {Distinct{}, "lookalikes distinct"},
	{Health{}, "health"}, {GivenUp{}, "health --give-up"}, {Tidied{}, "tidy"}, {Usage{}, "usage"}, {Relocated{}, "relocate"},
	{Serving{}, "serve"}, {BackedUp{}, "serve backup, serve restore"}, {SignedIn{}, "login, who"}, {SignedOut{}, "logout"},
	{TargetSecrets{}, "login, logout"},
	{People{}, "people list"}, {AccountShown{}, "people show"}, {AccountChanged{}, "people add, people token --revoke"},
	{Invitation{}, "people invite"}, {Token{}, "people token"}, {AccountEnded{}, "people end"}, {Groups{}, "people group"},
}
