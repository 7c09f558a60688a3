package say_test

import "pravet/internal/say"

// saidOfFiles are the sentences about files, reports and environments.
func saidOfFiles() map[string][]any {
	november, december := date("2026-11-24"), date("2026-12-01")
	return map[string][]any{
		"NothingToAmend": {
			say.NothingToAmend(),
			"The files say so already; nothing is to be written.",
		},
		"WouldNotPass": {
			say.WouldNotPass(2),
			"as amended, the files would not pass: 2 problems (above); nothing was written",
		},
		"NotWrittenYet": {
			say.NotWrittenYet(),
			"Nothing has been written. Add --write to write the files, or --commit to write and commit them.",
		},
		"NoGit": {
			say.NoGit(errFull),
			"--commit needs Git: the disk is full; use --write instead. Nothing was written",
		},
		"Uncommitted": {
			say.Uncommitted([]string{"kits/a.yaml", "people/b.csv"}),
			"kits/a.yaml and people/b.csv have changes that are not committed, which would be committed along; commit or undo them first, or use --write. Nothing was written",
		},
		"Wrote": {
			say.Wrote([]string{"a", "b", "c", "d", "e", "f", "g"}),
			"Wrote a, b, c, d, e, f and 1 more file.",
		},
		"NotCommitted": {
			say.NotCommitted([]string{"kits/a.yaml"}, errFull),
			"kits/a.yaml was written, and not committed: the disk is full",
		},
		"Committed": {
			say.Committed([]string{"kits/a.yaml"}, "b3c729fcc8abc", "Amend: end"),
			"Committed kits/a.yaml as b3c729fcc8: Amend: end",
		},
		"ForWhom": {
			say.ForWhom(),
			"for whom? Name them with --for E0042, with --only FILTER, or with --from LIST.csv",
		},
		"MatchesNobody": {
			say.MatchesNobody(`title eq "x"`),
			`nobody matches title eq "x"; try it with: pravet list people --only 'title eq "x"'`,
		},
		"Amended": {
			say.Amended("end", []string{"2026-12-31"}, []string{"E1", "E2", "E3", "E4"}),
			"Amend: end 2026-12-31 for 4 people",
		},
		"SetWhat": {
			say.SetWhat(),
			`set what? For example: pravet amend set title="Desk lead" --for E0042`,
		},
		"SetsNothing": {
			say.SetsNothing("title"),
			`"title" sets nothing; ATTRIBUTE=VALUE is expected, for example title="Desk lead"`,
		},
		"NoOtherID": {
			say.NoOtherID(),
			"an id stays as it is, as the ledger and other files know the person by it; change userName instead",
		},
		"BecauseOf": {
			say.BecauseOf(),
			`because of what? Whoever holds a kit by name, or is left out of a rule, needs --because "REASON"`,
		},
		"Like": {
			say.Like("E0031"),
			"like E0031",
		},
		"LikeOneself": {
			say.LikeOneself(),
			"both are the same person; name two",
		},
		"ListNamesNobody": {
			say.ListNamesNobody("moved.csv"),
			"moved.csv: neither a column id nor a column userName is in its header; add one",
		},
		"NobodyBy": {
			say.NobodyBy("E9"),
			`there is no person "E9"`,
		},
		"CorrectTheList": {
			say.CorrectTheList(),
			"correct the list, or take in the person first: pravet intake",
		},
		"ListWrong": {
			say.ListWrong("moved.csv", 1),
			"moved.csv has 1 problem (above); nothing was written",
		},
		"OddColumns": {
			say.OddColumns("moved.csv", []string{"Locker", "Shoe"}),
			"moved.csv: the columns Locker, Shoe are no attribute of people; take them out, or name them extra.NAME",
		},
		"IntakeWhat": {
			say.IntakeWhat([]string{"season"}),
			"take in what? Name a spreadsheet, for example: pravet intake monday.csv; or a source of pravet.yaml: season",
		},
		"NotAMapping": {
			say.NotAMapping("email"),
			"--map email: ATTRIBUTE=COLUMN is expected, for example --map email=Mail",
		},
		"NoDigits": {
			say.NoDigits("E"),
			"--number E has no # where digits are to stand; write it like E####",
		},
		"OneCharacter": {
			say.OneCharacter(";;"),
			`--delimiter ";;" is not one character; use for example ";" or "\t"`,
		},
		"NotAPeopleFile": {
			say.NotAPeopleFile("kits/x.csv"),
			"--into kits/x.csv: people are read from people/NAME.csv or people/NAME.yaml",
		},
		"SourceFailed": {
			say.SourceFailed("hr", errFull),
			"the program of source hr failed: the disk is full; nothing was taken in",
		},
		"RowsWrong": {
			say.RowsWrong(2),
			"2 rows are wrong (above); correct them, or leave them out with --skip-wrong",
		},
		"MayBeThere": {
			say.MayBeThere(1),
			"1 new person may be there already (above); put the id of that person into the row, or take in somebody of the same name with --with-doubles",
		},
		"EndsMany": {
			say.EndsMany(12, 65),
			"these rows end 12 of 65 people; if that is meant, add --ends 12",
		},
		"IntoWhich": {
			say.IntoWhich(),
			"there are several files of people; say which the new ones come into, for example --into people/ashore.csv",
		},
		"NothingTakenIn": {
			say.NothingTakenIn(true),
			"nothing was written",
		},
		"TookIn": {
			say.TookIn("monday.csv", 3, 2),
			"Take in monday.csv: 3 new, 2 changed",
		},
		"BetweenHalfAndAll": {
			say.BetweenHalfAndAll(),
			"--sure is a percentage from 50 to 100",
		},
		"FoundOn": {
			say.FoundOn(november),
			"Found on 2026-11-24 in what people hold",
		},
		"LacksToday": {
			say.LacksToday(november),
			"did not hold it on 2026-11-24, when the rule was found",
		},
		"ProposedKits": {
			say.ProposedKits(2),
			"Make rules of what people hold: 2 kits",
		},
		"AdoptWhich": {
			say.AdoptWhich(),
			"which changes? For example: pravet adopt PLAN 4 7; an application is taken over with --app ID, an account with --for PERSON",
		},
		"NotBelow": {
			say.NotBelow("../x.csv"),
			"../x.csv is outside the repository; put it below, for example into exports/",
		},
		"NotAnID": {
			say.NotAnID("No Good"),
			`--app "No Good" is not an id: small letters, digits and hyphens`,
		},
		"HasThatExport": {
			say.HasThatExport("exports/slips.csv", "apps/slips.yaml:4:3"),
			"exports/slips.csv is the export that apps/slips.yaml:4:3 names already",
		},
		"NoSuchAccount": {
			say.NoSuchAccount("rosa", "slips"),
			`the export of slips shows no account "rosa"`,
		},
		"AdoptedApp": {
			say.AdoptedApp("slips"),
			"Take over slips as it is",
		},
		"IsSomebodys": {
			say.IsSomebodys("slips/account/rosa", "Rosa Engel", "C0302"),
			"slips/account/rosa is the account of Rosa Engel (C0302) already",
		},
		"HasAnAccount": {
			say.HasAnAccount("Rosa Engel", "rosa", "slips"),
			"Rosa Engel has the account rosa in slips already; nobody can have two",
		},
		"BecauseOfAdoption": {
			say.BecauseOfAdoption(),
			`because of what? What was done by hand comes into the files with a reason: --because "REASON"`,
		},
		"AdoptedBecause": {
			say.AdoptedBecause("agreed", "Farah Linden", november),
			"agreed; done by hand, taken over by Farah Linden on 2026-11-24",
		},
		"StillThere": {
			say.StillThere("drncvfz5z3qu"),
			"change drncvfz5z3qu would still be in the next draft; correct the files by hand. Nothing was written",
		},
		"MoreChanges": {
			say.MoreChanges(1),
			"The next draft has 1 change by this that was not in the last one; look at it before you apply.",
		},
		"NotAnEnvironment": {
			say.NotAnEnvironment("No Good"),
			`"No Good" is not a name of an environment: small letters, digits and hyphens`,
		},
		"OtherEnvironment": {
			say.OtherEnvironment("2w57bede", "rehearsal", ""),
			"plan 2w57bede is for the environment rehearsal, and this is live; it runs nowhere else: --env rehearsal",
		},
		"OutEnding": {
			say.OutEnding("x.txt"),
			"--out x.txt: the ending tells the format: .html, .csv, .json or .md",
		},
		"OneReportAsCSV": {
			say.OneReportAsCSV([]string{"access", "seats"}),
			"CSV holds one report; name one of access, seats",
		},
		"SpanTurned": {
			say.SpanTurned(december, november),
			"--from 2026-12-01 is after --to 2026-11-24; exchange them",
		},
		"BeforeTheLedger": {
			say.BeforeTheLedger("2020-01-01"),
			"nothing is on record of 2020-01-01: neither a plan, nor an export, nor a commit of the files by then",
		},
		"WholePlan": {
			say.WholePlan([]string{"seats"}),
			"guard seats",
		},
	}
}
