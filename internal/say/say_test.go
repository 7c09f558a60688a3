package say_test

import (
	"errors"
	"fmt"
	"maps"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/letter"
	"pravet/internal/core/model"
	"pravet/internal/ledger"
	"pravet/internal/say"
)

var errFull = errors.New("the disk is full")

func date(text string) day.Day {
	d, err := day.Parse(text)
	if err != nil {
		panic(err)
	}
	return d
}

// said are all sentences, each with what it reads like.
func said() map[string][]any {
	note := &letter.Letter{
		Reader: "Ada Fell", Address: "ada@x.example", Subject: "2 changes", Body: "Dear Ada Fell,\n\nnothing.\n",
	}
	november, december := date("2026-11-24"), date("2026-12-01")
	written, next := say.Drafted("plans/2w57bede.json", "2w57bede")
	mark, running := say.UnderWayToo("Idris Keane carries out 2w57bede")
	all := map[string][]any{
		"EmptyFilter": {
			say.EmptyFilter(), `the filter is empty; write one, for example person eq "E0118", or leave the flag out`,
		},
		"Part": {say.Part(`verb eq "suspend"`), `asked at apply --only verb eq "suspend"`},
		"LeftOfPlan": {
			say.LeftOfPlan(1, "2w57bede"),
			"1 change is left of this plan; go on with: pravet accept 2w57bede, and pravet apply 2w57bede",
			say.LeftOfPlan(7, "2w57bede"),
			"7 changes are left of this plan; go on with: pravet accept 2w57bede, and pravet apply 2w57bede",
		},
		"NoLetters": {
			say.NoLetters(),
			"No letter is due: pravet.yaml does not say who is told what. " +
				"Add letters: {from: ADDRESS, readers: [...], by: [...]}",
		},
		"LetterTo": {
			say.LetterTo(note, "folder outbox"),
			"To Ada Fell <ada@x.example>, by folder outbox: 2 changes",
		},
		"LetterLines": {say.LetterLines(note), "[Dear Ada Fell,  nothing.]"},
		"LettersDue": {
			say.LettersDue(0), "No letter is due.", say.LettersDue(1),
			"1 letter is due; send it with: pravet letters --send", say.LettersDue(2),
			"2 letters are due; send them with: pravet letters --send",
		},
		"LetterUnsure": {
			say.LetterUnsure("0a1b", "ada@x.example", "smtp mail.x.example:587", "2026-11-24T09:00:00Z"),
			"Letter 0a1b to ada@x.example, by smtp mail.x.example:587 on 2026-11-24 09:00, may not have arrived; " +
				"it is not sent again.",
		},
		"LettersSent": {say.LettersSent(1), "1 letter was sent.", say.LettersSent(3), "3 letters were sent."},
		"LetterFailed": {
			say.LetterFailed(note, errFull, true),
			"The letter to ada@x.example may not have arrived, and is not sent again: the disk is full",
			say.LetterFailed(note, errFull, false),
			"The letter to ada@x.example was not sent, and goes with the next: the disk is full",
		},
		"NotFetched": {
			say.NotFetched([]string{"rosters"}),
			"rosters writes its export itself; only what is reached by scim, ldap, postgres or program is fetched",
		},
		"NothingLive": {
			say.NothingLive(),
			"There is nothing to fetch: each application writes its export itself.",
		},
		"NotFetchedBecause": {say.NotFetchedBecause(errFull), "Not fetched: the disk is full"},
		"Fetched":           {say.Fetched("berths", 44), "berths: fetched, 44 accounts"},
		"Reading":           {say.Reading("berths", 200), "berths: 200 accounts read so far"},
		"FetchFailed":       {say.FetchFailed(1, 3), "1 of 3 applications could not be fetched"},
		"Lacking":           {say.Lacking(2), "2 things are lacking; look for “no” above"},
		"NotLoopback": {
			say.NotLoopback(
				"0.0.0.0:80",
			), "--at: 0.0.0.0:80 is not an address of this machine alone; write 127.0.0.1:PORT",
		},
		"NotListening": {
			say.NotListening(
				"127.0.0.1:80",
				errFull,
			), "nobody can listen at 127.0.0.1:80: the disk is full; take another one with --at",
		},
		"NoFault": {
			say.NoFault("sloth", []string{"busy", "late"}),
			`--fault: "sloth" is not understood; write NAME=VALUE, like busy=10% or delay=50ms, with one of busy, late`,
		},
		"Playing": {
			say.Playing("berths", "http://127.0.0.1:8440/berths"),
			"berths is played at http://127.0.0.1:8440/berths",
		},
		"WhatNow": {
			say.WhatNow(ledger.Unknown), "apply the plan again: it is looked up first, and not done twice",
			say.WhatNow(ledger.NotYet), "",
		},
		"Claimed": {
			say.Claimed(
				"berths",
			), "another run, from another repository, changes berths just now; wait until it is done",
		},
		"NotClaimed": {
			say.NotClaimed("berths", errFull),
			"berths cannot be kept from other runs while this one changes it: the disk is full",
		},
		"FilesAskStill": {
			say.FilesAskStill("run-7"),
			"The files still ask for what run-7 did. Change them too, or the next draft brings it back.",
		},
		"Beside": {say.Beside(), "Since the plan's export, others have changed this; nothing of it was touched:"},
		"Progress": {
			say.Progress("tickets", map[model.Effect]int{model.Widens: 12, model.Keeps: 1}, 0, 0),
			"tickets: 12 widen, 0 narrow, 1 keep",
			say.Progress("tickets", nil, 2, 90*time.Second),
			"tickets: 0 widen, 0 narrow, 0 keep, 2 failed; about 1m30s left",
		},
		"Interruptions": {say.Interruptions(99), "--interruptions: 99 is not between 0 and 90 of a hundred steps"},
		"Rehearsed": {
			say.Rehearsed("2w57bede", 41, 42), "Plan 2w57bede on copies of the applications: 41 of 42 changes settled.",
		},
		"RehearsedSteps": {
			say.RehearsedSteps(5, 1, 7),
			"5 steps, there and back; 1 interruption was thrown in (seed 7), and the run went on after each.",
		},
		"NoNumber":        {say.NoNumber("--seed", `"x"`), `--seed: "x" is no whole number that fits here`},
		"RehearsedNot":    {say.RehearsedNot(1), "1 change would not be settled:"},
		"RehearsedBroken": {say.RehearsedBroken(), "After some step this did not hold, which did before:"},
		"RehearsedHeld": {
			say.RehearsedHeld(),
			"After every step there were enough seats, everyone who must stay was there, and nobody newly held separated duties.",
		},
		"RehearsedUndone": {say.RehearsedUndone(3), "Undone again: 3 changes."},
		"StartAgain":      {say.StartAgain(), "The start is reached again: the applications are just as they were."},
		"StartBut":        {say.StartBut(), "Everything is back as it was at the start, except:"},
		"ForSomebody": {
			say.ForSomebody(2, "2w57bede"),
			"2 changes wait for somebody to carry them out; when the application is exported again, go on with: " +
				"pravet apply 2w57bede",
		},
		"Arrived": {
			say.Arrived(
				"run-7",
				"stores",
				2,
				2,
				nil,
			), "stores: of 2 changes that waited in run-7, the export shows 2 now",
			say.Arrived("run-7", "stores", 1, 2, []string{"grant role buyer"}),
			"stores: of 2 changes that waited in run-7, the export shows 1 now; still missing:\n  grant role buyer",
		},
		"NoWay": {say.NoWay(errFull), "No letter goes this way: the disk is full"},
		"LettersLater": {
			say.LettersLater(errFull),
			"Not all letters were sent; the run is not touched by that. Send them with: pravet letters --send " +
				"(the disk is full)",
		},
		"Flag":         {say.Flag("on", errFull), "--on: the disk is full"},
		"FilterColumn": {say.FilterColumn(7, errFull), "--only, column 7: the disk is full"},
		"NotOneOf": {
			say.NotOneOf("format", "xml", []string{"table", "json"}),
			`--format cannot be "xml"; use one of table, json`,
		},
		"Exclusive": {
			say.Exclusive([]string{"brief", "full"}),
			"--brief and --full exclude each other; use one of them",
		},
		"Missing": {
			say.Missing("which plan?", "pravet apply 2w57bede"), "which plan? For example: pravet apply 2w57bede",
		},
		"NoWords": {say.NoWords("pravet seats", "now"), `pravet seats takes flags only, and "now" is none`},
		"TooManyWords": {
			say.TooManyWords([]string{"twice"}, "pravet apply", "pravet apply 2w57bede"),
			`unexpected argument "twice"; for example: pravet apply 2w57bede`,
		},
		"NoFolder": {say.NoFolder("north"), "north: there is no such folder"},
		"NoRepository": {
			say.NoRepository("north", "pravet.yaml"),
			"north: there is no pravet.yaml in this folder; start a repository with: pravet new north",
		},
		"Problems": {
			say.Problems(1), "the files have 1 problem that must be fixed first; see them all with: pravet check",
		},
		"RevisionProblems": {
			say.RevisionProblems("HEAD~1", 2, errFull),
			"the files of revision HEAD~1 do not pass: they have 2 problems, the first: the disk is full",
		},
		"EmptyRevision": {say.EmptyRevision(), "the name of a revision is empty; name one, for example HEAD~1"},
		"TooManyForWith": {
			say.TooManyForWith(),
			"--with compares one revision with itself and files as they are now; name one revision at most",
		},
		"NotPast": {
			say.NotPast(december), "--at: 2026-12-01 is in the future; to see what is due then, use --on 2026-12-01",
		},
		"NoReason": {say.NoReason(), "a decision needs a reason: --because 'why'"},
		"NothingToDecide": {
			say.NothingToDecide("2w57bede"),
			"plan 2w57bede has been carried out, so there is nothing left to decide about it; draft again with: " +
				"pravet draft",
		},
		"TooOldToDecide": {
			say.TooOldToDecide("2w57bede", []string{"the files have changed", "tickets has changed"}),
			"plan 2w57bede is out of date, and nothing was decided: the files have changed; tickets has changed. " +
				"Draft again, and decide about the new plan",
		},
		"NothingFits": {say.NothingFits(), "the plan has no change that fits"},
		"CannotLift": {
			say.CannotLift("impossible"),
			"--lift: the guard impossible cannot be lifted; remove what causes it",
		},
		"LeftRejected": {
			say.LeftRejected(1),
			"Not accepted, because it was rejected earlier; to accept one, name it by its id:",
		},
		"AllRejected": {
			say.AllRejected(2, "drncvfz5z3qu"),
			"nothing was accepted: 2 changes that fit were rejected earlier; to accept one, name it by its id, for example drncvfz5z3qu",
		},
		"LiftOneByOne": {
			say.LiftOneByOne("at-least"),
			"--lift: the guard at-least can be lifted only for one change at a time; name the change by its id or number: " +
				"pravet accept PLAN CHANGE --lift at-least --because REASON",
		},
		"CannotLiftKept": {
			say.CannotLiftKept(),
			"--lift: the guard kept cannot be lifted; remove the entry under kept in standing.yaml, or wait until it expires",
		},
		"UntilIsOver": {
			say.UntilIsOver(november, december), "--until: 2026-11-24 is over on 2026-12-01, the day of the plan",
		},
		"OutIsTaken": {
			say.OutIsTaken("pravet.yaml"),
			"--out: pravet.yaml is a file of this repository, and no plan; nothing was written. Name another file",
		},
		"NoneKept": {
			say.NoneKept(errFull), "the disk is full; none is kept yet, and the next draft keeps what the exports hold",
		},
		"KeptSince": {
			say.KeptSince(errFull, "2026-11-24"), "the disk is full; the first that is kept was taken on 2026-11-24",
		},
		"GroupByAlone": {say.GroupByAlone(), "--group-by counts rows, and goes with neither --columns nor --sort"},
		"UnfoldAlone":  {say.UnfoldAlone(), "--unfold lists the changes of groups; use it with --group-by"},
		"PlotAlone":    {say.PlotAlone(), "--plot draws what is ahead, and goes with --ahead, for example P12M"},
		"PlotEnding":   {say.PlotEnding("seats.gif"), `--plot: "seats.gif" ends neither in .png nor in .svg`},
		"AheadBounds":  {say.AheadBounds("P90Y", 10), "--ahead P90Y: it must be between a day and 10 years"},
		"ForBounds":    {say.ForBounds("-P1D", 10), "--for -P1D: it must be between no day and 10 years"},
		"NoWalkAlone":  {say.NoWalkAlone(), "--no-walk goes with --keep DIR"},
		"NoLedger":     {say.NoLedger(), "this repository has no ledger yet; it begins with the first draft"},
		"NotOnRecord":  {say.NotOnRecord("run-9"), `the ledger has no run or plan "run-9"; see: pravet log`},
		"NothingOnRecord": {
			say.NothingOnRecord("the application", "tickts", "tickets"),
			`neither the files nor the ledger knows the application "tickts"; did you mean tickets?`,
		},
		"LedgerBroken": {
			say.LedgerBroken("entry 3 is missing"),
			"the ledger is not whole: entry 3 is missing; put the whole ledger back",
		},
		"BadEntry": {
			say.BadEntry(3, errFull),
			"entry 3 of the ledger cannot be read: the disk is full; check it with: pravet log verify",
		},
		"NoSuchHead": {
			say.NoSuchHead("ab12"),
			"the ledger is whole, and has no entry with the hash ab12: it is not the one that was noted",
		},
		"NoPlanYet": {say.NoPlanYet(), "there is no plan yet; draft one with: pravet draft"},
		"NoChange": {
			say.NoChange("nosuch", "2w57bede"),
			`the plan has no change "nosuch"; list them with: pravet show 2w57bede --brief`,
		},
		"ManyChanges": {say.ManyChanges(2, "ab"), `2 changes begin with "ab"; write more of the id`},
		"WhichPlan": {
			say.WhichPlan("3-9"),
			"which plan? Numbers and causes alone are those of the plan that was just shown on this terminal; " +
				"otherwise name it, for example: pravet accept 2w57bede 3-9",
		},
		"NotANumber": {say.NotANumber("x"), `"x" is not the number of a change; for example: 3-9,14`},
		"NoNumbers":  {say.NoNumbers("9-40", 38), "the plan has no changes 9-40; they are numbered from 1 to 38"},
		"NoCause": {
			say.NoCause("2q", "2w57bede"),
			"the plan has no cause or fold :2q; see them with: pravet show 2w57bede --summary",
		},
		"ManyCauses": {say.ManyCauses(2, "2"), "2 causes or folds begin with :2; write more of it"},
		"NotInPlan": {
			say.NotInPlan("person", "E0024", "with a change in the plan", "E0042"),
			`there is no person "E0024" with a change in the plan; did you mean E0042?`,
		},
		"NotAnAssignment": {
			say.NotAnAssignment("department"),
			"--with department: ATTRIBUTE=VALUE is expected, for example --with department=Planning",
		},
		"ThingBeside": {
			say.ThingBeside("tickets/role/seller"),
			"--with and --beside ask about all that a person has; leave out tickets/role/seller",
		},
		"NoPersonThen": {
			say.NoPersonThen("E0042", "2026-11-10"),
			`there was no person with the id or the user name "E0042" on 2026-11-10`,
		},
		"NoPerson": {
			say.NoPerson("nobody", ""),
			`there is no person with the id, the user name or the name "nobody"; list them with: pravet list people`,
		},
		"ManyPeople": {
			say.ManyPeople("Oskar Nyman", []string{"E0042  oskar.nyman  Planning"}, 2),
			"2 people are called \"Oskar Nyman\"; name the one that you mean by id or user name:\n" +
				"  E0042  oskar.nyman  Planning\n  and 1 more",
		},
		"NotAThing": {
			say.NotAThing("tickets/account/x"),
			"tickets/account/x is an account; a group, role or license is expected",
		},
		"NoThing": {
			say.NoThing("tickets", model.Role, "sellr", "tickets/role/seller"),
			`tickets has no role "sellr" in its catalog; did you mean tickets/role/seller?`,
		},
		"Outside": {
			say.Outside("../new.yaml"),
			"--with: ../new.yaml is not a file of this repository; name one below its folder, for example kits/new.yaml",
		},
		"FolderNotEmpty": {
			say.FolderNotEmpty("north"), "north: the folder is not empty; nothing was written. Name a new one",
		},
		"NotStarted":  {say.NotStarted(errFull), "the repository cannot be written: the disk is full"},
		"Interrupted": {say.Interrupted(), "interrupted; nothing was changed"},
		"NotToday": {
			say.NotToday("2026-12-01", "2026-11-24"),
			"the plan is for 2026-12-01, and today is 2026-11-24; nothing was changed. Apply it then, or draft one " +
				"for today",
		},
		"LedgerBrokenBefore": {
			say.LedgerBrokenBefore("entry 3 is missing"),
			"the ledger is not whole: entry 3 is missing; nothing was changed. Put the whole ledger back",
		},
		"HeldByGuards": {say.HeldByGuards(1), "1 change is held by a guard"},
		"ConsentNotRecorded": {
			say.ConsentNotRecorded(
				errFull,
			), "the consent could not be recorded, and nothing was changed: the disk is full",
		},
		"RunNotBegun": {say.RunNotBegun(errFull), "the run did not begin, and nothing was changed: the disk is full"},
		"Stopped": {
			say.Stopped("run-2", errFull, "2w57bede"),
			"run-2 stopped: the disk is full; to go on: pravet apply 2w57bede",
		},
		"EndedBut": {say.EndedBut("run-2", errFull), "run-2 came to its end, but the disk is full"},
		"NotAccepted": {
			say.NotAccepted("2w57bede"),
			"the plan is not accepted, and there is no terminal to ask on; accept it first with: pravet accept " +
				"2w57bede --because 'why', or use --yes",
		},
		"NoAnswer":     {say.NoAnswer(), "there was no answer; nothing was changed"},
		"NotConfirmed": {say.NotConfirmed(), "not confirmed; nothing was changed"},
		"Question":     {say.Question(), "Carry this out? Type yes: "},
		"HowMany":      {say.HowMany(), "To carry this out, type how many of these changes cannot be undone: "},
		"CountForGood": {
			say.CountForGood(3),
			"3 changes cannot be undone, and nothing was changed; add --yes-for-good 3, or reject what is not meant",
		},
		"OnlyForGood": {
			say.OnlyForGood(1),
			"1 change cannot be undone, and nothing was accepted; name it by id or number, or add --for-good",
		},
		"LeftForGood": {
			say.LeftForGood(2),
			"Not accepted: 2 changes that cannot be undone. Name them by id or number, or add --for-good.",
		},
		"NoUnattended": {
			say.NoUnattended(),
			"pravet.yaml does not say which changes may be carried out with nobody there; add for example: " +
				`unattended: effect eq "keeps" or verb eq "suspend"`,
		},
		"Unattended": {say.Unattended(`verb eq "suspend"`), `unattended: verb eq "suspend"`},
		"LeftForSomebody": {
			say.LeftForSomebody(2, "zfhvg6at"), "2 changes are left for a person; see: pravet show zfhvg6at",
		},
		"NothingToDo": {say.NothingToDo(), "There is nothing to carry out."},
		"LeftAlone": {
			say.LeftAlone(decide.Past, 1, "2026-11-24") + ", " + say.LeftAlone(decide.Lacking, 2, ""),
			"1 change no longer due on 2026-11-24, left alone, 2 changes left alone, as something that they need is " +
				"not carried out",
		},
		"More": {say.More(1200), "and 1,200 more"},
		"Came": {
			say.Came("run-2", "2w57bede", 1, 0), "run-2 of plan 2w57bede: 1 change settled, 0 not settled.",
		},
		"WrittenOnly": {
			say.WrittenOnly("tickets"),
			"tickets was written, and what became of that is not on record yet; the next draft or apply reads it back.",
		},
		"LackingAfter": {
			say.LackingAfter(1), "1 change is left alone, as something that it needs is not carried out.",
		},
		"HeldBy": {
			say.HeldBy(2, []string{"seats", "separation"}, "2w57bede", "seats"),
			"2 changes are held by seats, separation; to lift one: pravet accept 2w57bede --lift seats --because 'why'",
		},
		"OnRecord": {
			say.OnRecord("run-2", 60, "ab12"), "On record: pravet log run-2. The ledger ends with entry 60, ab12",
		},
		"ToldElsewhere": {
			say.ToldElsewhere(errFull),
			"standard output could not be written (the disk is full); this is what was done:",
		},
		"UnderWay": {
			say.UnderWay("Idris Keane carries out 2w57bede"),
			"A run is under way, so this plan may soon be out of date: Idris Keane carries out 2w57bede",
		},
		"UnderWayToo": {
			mark + running,
			"A run is under way: Idris Keane carries out 2w57bede. What it has not begun yet follows this decision.",
		},
		"Lifted": {
			say.Lifted("seats", "2w57bede", 5), "Lifted the guard seats for plan 2w57bede; it held 5 changes.",
		},
		"AcceptedPlan": {
			say.AcceptedPlan("2w57bede", 34, 38) + " " + say.AcceptedPlan("2w57bede", 1, 1),
			"Accepted 34 of 38 changes, the whole plan 2w57bede but for 4 that were rejected. " +
				"Accepted the whole plan 2w57bede, 1 change.",
		},
		"Accepted":      {say.Accepted(2, "2w57bede"), "Accepted 2 changes of plan 2w57bede:"},
		"AcceptedAlong": {say.AcceptedAlong(), "Along with them, as they need it:"},
		"TakenUp": {
			say.TakenUp(1), "1 of them was set aside before; draft again to have what was taken up.",
		},
		"TooLateToReject": {
			say.TooLateToReject(2), "2 changes were carried out already, so it is too late to reject:",
		},
		"Rejected": {
			say.Rejected(1, "2w57bede", "2026-12-31", false) + " " + say.Rejected(2, "2w57bede", "", true),
			"Rejected 1 change of plan 2w57bede, remembered until 2026-12-31: " +
				"Rejected 2 changes of plan 2w57bede, written to standing.yaml:",
		},
		"StandsAlready": {
			say.StandsAlready(1) + " " + say.StandsAlready(2),
			"1 of them stands there already, word for word, and was not written again. " +
				"2 of them stand there already, word for word, and were not written again.",
		},
		"RejectedAlong": {say.RejectedAlong(), "Also rejected, because they need one of these:"},
		"Remaining": {
			say.Remaining(map[decide.State]int{decide.Waiting: 3500, decide.Held: 1}),
			"The plan now: 3,500 undecided, 1 held.",
		},
		"RejectedBy": {
			say.RejectedBy(
				&decide.Rejection{By: "Idris Keane <idris@ferries.example>", Because: "not yet", Until: december},
			),
			"rejected until 2026-12-01 by Idris Keane: not yet",
		},
		"Hint": {say.Hint(), "See: pravet --help, or pravet COMMAND --help"},
		"Read": {
			say.Read(9, 65, 3, 1, 8, 0, 1),
			"Read 9 files: 65 people, 3 applications, 1 kit, 8 rules; 0 errors, 1 warning.",
		},
		"NotCompared": {
			say.NotCompared("b3c729fcc8"),
			"The files of revision b3c729fcc8 do not pass, so nothing is said of who would gain something sensitive.",
		},
		"NoLedgerToCompare": {
			say.NoLedgerToCompare(errFull),
			"What was carried out last is not known, so the last commit is compared with: the disk is full",
		},
		"AsOf": {
			say.AsOf(
				"2026-11-10",
				"",
				nil,
			) + " " + say.AsOf(
				"2026-11-10",
				"b3c7",
				[]string{"tickets as exported on 2026-11-09"},
			),
			"As of 2026-11-10, by the files as they are now, for no revision of that day is on record. " +
				"As of 2026-11-10, by the files of revision b3c7; tickets as exported on 2026-11-09.",
		},
		"NotByARun": {say.NotByARun(), "not by a run; first seen in the export of that day"},
		"Dry": {
			say.Dry(), "This is what the plan would be; nothing was written. Write it with: pravet draft",
		},
		"Drafted": {
			written + ". " + next, "Written to plans/2w57bede.json. Read it with: pravet show 2w57bede",
		},
		"Drawn": {say.Drawn("seats.png"), "Drawn into seats.png"},
		"Started": {
			say.Started("north"),
			"Started a repository in north. Look around, then:\n  cd north\n  git init && git add . && git commit -m 'Start'\n  pravet check\n  pravet draft",
		},
		"Whole": {say.Whole(1, "ab12"), "The ledger is whole: 1 entry, head ab12"},
		"NothingToTrust": {
			say.NothingToTrust(), "The ledger ends where it did, or later; there is nothing to trust.",
		},
		"Trusted": {say.Trusted(60), "The ledger is taken for whole as it is, with 60 entries."},
		"Minute":  {say.Minute("2026-11-24T09:00:00Z"), "2026-11-24 09:00"},
		"Name":    {say.Name("Idris Keane <idris@ferries.example>"), "Idris Keane"},
		"AcceptedBy": {
			say.AcceptedBy("Idris Keane <idris@ferries.example>", "reviewed"),
			"; accepted by Idris Keane: reviewed",
		},
		"Entry": {
			say.Entry(&ledger.Entry{
				Kind: ledger.Decided, Body: []byte(`{"verdict":"reject","changes":["a","b"],"until":"2026-12-31","because":"not yet"}`),
			}),
			"rejected 2 changes until 2026-12-31, because not yet",
		},
	}
	maps.Copy(all, saidOfFiles())
	return all
}

func TestWhatStoodReadsAsItShould(t *testing.T) {
	require.Equal(
		t,
		"2 accounts upon path ashore; 1 account on path ashore with suspend done; no more: 1 account of nobody and blocked",
		say.Entry(&ledger.Entry{Kind: ledger.StoodSince, Body: []byte(`{"app":"till","came":[` +
			`{"path":"ashore","accounts":["a","b"]},{"path":"ashore","step":"suspend","accounts":["a"]}],` +
			`"went":[{"step":"suspend","accounts":["kiosk"]}]}`)}),
	)
}

func TestEverySentenceReadsAsItShould(t *testing.T) {
	for name, x := range said() {
		assert.Equal(t, x[1], fmt.Sprint(x[0]), name)
	}
}
