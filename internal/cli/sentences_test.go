package cli

import (
	"errors"
	"testing"
	"time"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/letter"
	"pravet/internal/core/model"
	"pravet/internal/decisions"
	"pravet/internal/evidence"
	"pravet/internal/ledger"
	"pravet/internal/prepared"
)

var errFull = errors.New("the disk is full")

func date(text string) day.Day {
	d, err := day.Parse(text)
	if err != nil {
		panic(err)
	}
	return d
}

// both are two parts of what is said, beside each other.
func both(one, other string) string { return one + "  " + other }

// What a person at a terminal reads stands in testdata/sentences.txt, each sentence under the name of
// what says it. UPDATE=1 writes it anew; read it.
func TestSentences(t *testing.T) {
	note := &letter.Letter{
		Reader: "Ada Fell", Address: "ada@x.example", Subject: "2 changes", Body: "Dear Ada Fell,\n\nnothing.\n",
	}
	november, december := date("2026-11-24"), date("2026-12-01")
	prepared.Sentences(t, map[string][]any{
		"sayAccepted":      {sayAccepted(2, "2w57bede")},
		"sayAcceptedAlong": {sayAcceptedAlong()},
		"sayAcceptedBy":    {sayAcceptedBy("Idris Keane <idris@ferries.example>", "reviewed")},
		"sayAcceptedPlan":  {sayAcceptedPlan("2w57bede", 34, 38) + " " + sayAcceptedPlan("2w57bede", 1, 1)},
		"sayAdoptWhat":     {sayAdoptWhat()},
		"sayFirstDay": {
			sayFirstDay("2026-12-14", []string{"Nora Vik (E7)", "Per Vik (E8)", "Ada Marsh (E9)", "Kim Nest (E10)"}, []string{"berths/account", "berths/license/seat"}),
			sayFirstDay("2026-12-14", []string{"Ole Nord (E11)"}, nil),
		},
		"sayFirstDays":           {sayFirstDays()},
		"sayForWithoutPage":      {sayForWithoutPage()},
		"sayFrom":                {sayFrom("", true), sayFrom("b3c729f", true), sayFrom("b3c729f", false)},
		"sayHead":                {sayHead(0, ""), sayHead(1234, "7fc07638")},
		"sayOrganizationOfEmpty": {sayOrganizationOfEmpty()},
		"sayPageIsTaken":         {sayPageIsTaken("plan.html")},
		"sayPageWritten":         {sayPageWritten("plan.html", 38, 38, ""), sayPageWritten("plan.html", 5, 38, "Mirela Dunn")},
		"sayShortThen":           {sayShortThen("berths/license/seat", 3, 1)},
		"sayStartedEmpty":        {sayStartedEmpty("access")},
		"sayWaitingOnPage":       {sayWaitingOnPage(5, "the owner of berths")},
		"sayWaitsAlone":          {sayWaitsAlone("berths/account/kim.nest")},
		"sayAmendmentEndsMany":   {sayAmendmentEndsMany(51, 65)},
		"sayKeeps":               {sayKeeps("Bo Deck", "E0002", "desk", "2026-03-15")},
		"sayEnding":              {sayEnding(&carry.Ending{App: "berths", Accounts: map[string]int{"open": 16}, Before: map[string]int{"open": 14, "blocked": 1}})},
		"sayLivedFold":           {sayLivedFold("tickets: suspend account", []string{"Ada Fell", "Bo Deck", "Cy Cook", "Zed Roe", "Ole Brandt"}, false), sayLivedFold("tickets: remove account", nil, true)},
		"sayLivedThrough":        {sayLivedThrough("2026-12-01", "2027-03-01", true), sayLivedThrough("2026-12-01", "2027-03-01", false)},
		"sayNothingPending":      {sayNothingPending()},
		"sayPending":             {sayPending(9, 1), sayPending(1, 0)},
		"sayPendingLine":         {sayPendingLine("2026-12-01", "2026-12-31", "2027-03-01", "tickets: grant role seller for Bo Deck (E0002)", "a decision"), sayPendingLine("2026-12-01", "2027-03-01", "2027-03-01", "one", "seats: no seat is left")},
		"sayPlanOrDays":          {sayPlanOrDays()},
		"sayRehearseWhat":        {sayRehearseWhat()},
		"sayNoTopic":             {sayNoTopic("gards", "guards"), sayNoTopic("zzz", "")},
		"sayPageToo":             {sayPageToo("review")},
		"sayTopics":              {sayTopics()},
		"sayAdoptWhich":          {sayAdoptWhich()},
		"sayCommit":              {sayCommit("500a4fe99abc", "Farah Linden", "2026-09-01", "Keep people in files")},
		"sayRecordedLine":        {sayRecordedLine("accept 3 changes, because agreed", false), sayRecordedLine("accept 3 changes, because agreed", true)},
		"sayReviewEnded":         {sayReviewEnded()},
		"sayReviewNeedsTerminal": {sayReviewNeedsTerminal()},
		"sayWhoHas":              {sayWhoHas()},
		"sayAdoptedApp":          {sayAdoptedApp("slips")},
		"sayAheadBounds":         {sayAheadBounds("P90Y", 10)},
		"sayAmended":             {sayAmended("end", []string{"2026-12-31"}, []string{"E1", "E2", "E3", "E4"})},
		"sayArrived": {
			sayArrived("run-7", "stores", 2, 2, nil), sayArrived("run-7", "stores", 1, 2, []string{"grant role buyer"}),
		},
		"sayAsOf": {
			sayAsOf("2026-11-10", "", nil) + " " + sayAsOf("2026-11-10", "b3c7", []string{"tickets as exported on 2026-11-09"}),
		},
		"sayBecauseOf":         {sayBecauseOf()},
		"sayBeside":            {sayBeside()},
		"sayBetweenHalfAndAll": {sayBetweenHalfAndAll()},
		"sayCame":              {sayCame("run-2", "2w57bede", 1, 0)},
		"sayCommitted":         {sayCommitted([]string{"kits/a.yaml"}, "b3c729fcc8abc", "Amend: end")},
		"sayCountForGood":      {sayCountForGood(3)},
		"sayDrafted":           {both(sayDrafted("plans/2w57bede.json", "2w57bede"))},
		"sayDrawn":             {sayDrawn("seats.png")},
		"sayDry":               {sayDry()},
		"sayEmptyFilter":       {sayEmptyFilter()},
		"sayEmptyRevision":     {sayEmptyRevision()},
		"sayEndedBut":          {sayEndedBut("run-2", errFull)},
		"sayEndsMany":          {sayEndsMany(12, 65)},
		"sayEntry":             {sayEntry(&ledger.Entry{Kind: ledger.Decided, Body: []byte(`{"verdict":"reject","changes":["a","b"],"until":"2026-12-31","because":"not yet"}`)}, day.Zone{}), sayEntry(&ledger.Entry{Kind: ledger.StoodSince, Body: []byte(`{"app":"till","came":[` + `{"path":"ashore","accounts":["a","b"]},{"path":"ashore","step":"suspend","accounts":["a"]}],` + `"went":[{"step":"suspend","accounts":["kiosk"]}]}`)}, day.Zone{})},
		"sayExclusive":         {sayExclusive([]string{"brief", "full"})},
		"sayFetched":           {sayFetched("berths", 44)},
		"sayFilesAskStill":     {sayFilesAskStill("run-7")},
		"sayFilterColumn":      {sayFilterColumn(7, errFull)},
		"sayFlag":              {sayFlag("on", errFull)},
		"sayFolderNotEmpty":    {sayFolderNotEmpty("north")},
		"sayForBounds":         {sayForBounds("-P1D", 10)},
		"sayForSomebody":       {sayForSomebody(2, "2w57bede")},
		"sayFoundOn":           {sayFoundOn(november)},
		"sayGroupByAlone":      {sayGroupByAlone()},
		"sayHeldBy":            {sayHeldBy(2, []string{"seats", "separation"}, "2w57bede", "seats")},
		"sayHeldByGuards":      {sayHeldByGuards(1)},
		"sayHint":              {sayHint()},
		"sayHowMany":           {sayHowMany()},
		"sayIntakeWhat":        {sayIntakeWhat([]string{"season"})},
		"sayInterrupted":       {sayInterrupted()},
		"sayInterruptions":     {sayInterruptions(99)},
		"sayIntoWhich":         {sayIntoWhich()},
		"sayLacking":           {sayLacking(2)},
		"sayLackingAfter":      {sayLackingAfter(1)},
		"sayLacksToday":        {sayLacksToday(november)},
		"sayLeftAlone": {
			sayLeftAlone(decide.NoLongerDue, 1, "2026-11-24") + ", " + sayLeftAlone(decide.Lacking, 2, ""),
		},
		"sayLeftForGood":     {sayLeftForGood(2)},
		"sayLeftForSomebody": {sayLeftForSomebody(2, "zfhvg6at")},
		"sayLeftOfPlan":      {sayLeftOfPlan(1, "2w57bede"), sayLeftOfPlan(7, "2w57bede")},
		"sayLeftRejected":    {sayLeftRejected(1)},
		"sayLetterFailed":    {sayLetterFailed(note, errFull, true), sayLetterFailed(note, errFull, false)},
		"sayLetterLines":     {sayLetterLines(note)},
		"sayLetterTo":        {sayLetterTo(note, "folder outbox")},
		"sayLetterUnsure":    {sayLetterUnsure("0a1b", "ada@x.example", "smtp mail.x.example:587", "2026-11-24 09:00 UTC")},
		"sayLettersDue":      {sayLettersDue(0), sayLettersDue(1), sayLettersDue(2)},
		"sayLettersLater":    {sayLettersLater(errFull)},
		"sayLettersSent":     {sayLettersSent(1), sayLettersSent(3)},
		"sayLifted":          {sayLifted("seats", "2w57bede", 5)},
		"sayLike":            {sayLike("E0031")},
		"sayLikeOneself":     {sayLikeOneself()},
		"sayMayBeThere":      {sayMayBeThere(1)},
		"sayMissing":         {sayMissing("which plan?", "pravet apply 2w57bede")},
		"sayLettersLeft":     {sayLettersLeft(1, 2*time.Minute), sayLettersLeft(4, 2*time.Minute)},
		"sayOthersSend":      {sayOthersSend()},
		"sayFinished": {
			sayFinished([]string{"kits/desk.yaml"}), sayFinished([]string{"apps/till.yaml", "kits/desk.yaml"}),
		},
		"sayEnded":             {sayEnded()},
		"sayHeldUp":            {sayHeldUp("berths", "run-3", errFull)},
		"sayNoFraction":        {sayNoFraction("--sure", `"abc"`)},
		"sayNotYesOrNo":        {sayNotYesOrNo("--full", `"abc"`)},
		"sayNotSaid":           {sayNotSaid(errFull)},
		"sayMore":              {sayMore(1200)},
		"sayMoreChanges":       {sayMoreChanges(1)},
		"sayNoAnswer":          {sayNoAnswer()},
		"sayNoFault":           {sayNoFault("sloth", []string{"busy", "late"})},
		"sayNoFolder":          {sayNoFolder("north")},
		"sayNoLedgerToCompare": {sayNoLedgerToCompare(errFull)},
		"sayNoNumber":          {sayNoNumber("--seed", `"x"`)},
		"sayNoPersonThen":      {sayNoPersonThen("E0042", "2026-11-10")},
		"sayNoReason":          {sayNoReason()},
		"sayNoRepository":      {sayNoRepository("north", "pravet.yaml")},
		"sayNoWalkAlone":       {sayNoWalkAlone()},
		"sayNoWay":             {sayNoWay(errFull)},
		"sayNoWords":           {sayNoWords("pravet seats", "now")},
		"sayNotAccepted":       {sayNotAccepted("2w57bede")},
		"sayNotAnEnvironment":  {sayNotAnEnvironment("No Good")},
		"sayNotByARun":         {sayNotByARun()},
		"sayNotCompared":       {sayNotCompared("b3c729fcc8")},
		"sayNotConfirmed":      {sayNotConfirmed()},
		"sayNotFetchedBecause": {sayNotFetchedBecause(errFull)},
		"sayNotListening":      {sayNotListening("127.0.0.1:80", errFull)},
		"sayNotLoopback":       {sayNotLoopback("0.0.0.0:80")},
		"sayNotStarted":        {sayNotStarted(errFull)},
		"sayNotWrittenYet":     {sayNotWrittenYet()},
		"sayNothingLive":       {sayNothingLive()},
		"sayNothingTakenIn":    {sayNothingTakenIn(true)},
		"sayNothingToAmend":    {sayNothingToAmend()},
		"sayNothingToDo":       {sayNothingToDo()},
		"sayNothingToTrust":    {sayNothingToTrust()},
		"sayOddColumns":        {sayOddColumns("moved.csv", []string{"Locker", "Shoe"})},
		"sayOnRecord":          {sayOnRecord("run-2", 60, "ab12")},
		"sayOneReportAsCSV":    {sayOneReportAsCSV([]string{"access", "seats"})},
		"sayOutEnding":         {sayOutEnding("x.txt")},
		"sayOutside":           {sayOutside("../new.yaml")},
		"sayPart":              {sayPart("only", `verb eq "suspend"`)},
		"sayPlaying":           {sayPlaying("berths", "http://127.0.0.1:8440/berths")},
		"sayPlotAlone":         {sayPlotAlone()},
		"sayPlotEnding":        {sayPlotEnding("seats.gif")},
		"sayProgress": {
			sayProgress("tickets", map[model.Effect]int{model.Widens: 12, model.Keeps: 1}, 0, 0),
			sayProgress("tickets", nil, 2, 90*time.Second),
		},
		"sayProposedKits":    {sayProposedKits(2)},
		"sayQuestion":        {sayQuestion()},
		"sayRead":            {sayRead(9, 65, 3, 1, 8, 0, 1)},
		"sayReading":         {sayReading("berths", 200)},
		"sayRehearsed":       {sayRehearsed("2w57bede", 41, 42)},
		"sayRehearsedBroken": {sayRehearsedBroken()},
		"sayRehearsedHeld":   {sayRehearsedHeld()},
		"sayRehearsedNot":    {sayRehearsedNot(1)},
		"sayRehearsedSteps":  {sayRehearsedSteps(5, 1, 7)},
		"sayRehearsedUndone": {sayRehearsedUndone(3)},
		"sayRejected": {
			sayRejected(1, "2w57bede", "2026-12-31", false) + " " + sayRejected(2, "2w57bede", "", true),
		},
		"sayRejectedAlong": {sayRejectedAlong()},
		"sayRejectedBy": {
			sayRejectedBy(&decide.Rejection{By: "Idris Keane <idris@ferries.example>", Because: "not yet", Until: december}),
		},
		"sayRemaining":       {sayRemaining(map[decide.State]int{decide.NotAccepted: 3500, decide.Held: 1})},
		"sayRowsWrong":       {sayRowsWrong(2)},
		"sayRunNotBegun":     {sayRunNotBegun(errFull)},
		"saySetWhat":         {saySetWhat()},
		"sayStandsAlready":   {sayStandsAlready(1) + " " + sayStandsAlready(2)},
		"sayStartAgain":      {sayStartAgain()},
		"sayStartBut":        {sayStartBut()},
		"sayStarted":         {sayStarted("north")},
		"sayStopped":         {sayStopped("run-2", errFull, "2w57bede")},
		"sayTakenUp":         {sayTakenUp(1)},
		"sayThingBeside":     {sayThingBeside("tickets/role/seller")},
		"sayToldElsewhere":   {sayToldElsewhere(errFull)},
		"sayTooLateToReject": {sayTooLateToReject(2)},
		"sayTooManyForWith":  {sayTooManyForWith()},
		"sayTooManyWords":    {sayTooManyWords([]string{"twice"}, "pravet apply", "pravet apply 2w57bede")},
		"sayTookIn":          {sayTookIn("monday.csv", 3, 2)},
		"sayTrusted":         {sayTrusted(60)},
		"sayUnderWay":        {sayUnderWay("Idris Keane carries out 2w57bede")},
		"sayUnderWayToo":     {both(sayUnderWayToo("Idris Keane carries out 2w57bede"))},
		"sayUnfoldAlone":     {sayUnfoldAlone()},
		"sayWhatNow":         {sayWhatNow(ledger.Unknown), sayWhatNow(ledger.NotYet)},
		"sayWhichPlan":       {sayWhichPlan("3-9")},
		"sayArchiveEnding":   {sayArchiveEnding("november.zip")},
		"sayEvidence": {sayEvidence("november.tar.gz", &evidence.Summary{
			Entries: 60, Plans: 2, Decisions: 5, Signed: 4, States: 9, Last: ledger.Head{Seq: 60, Hash: "8daef18d30979df2"},
		})},
		"sayProveIt":      {sayProveIt("november.tar.gz")},
		"sayPseudonyms":   {sayPseudonyms()},
		"sayPlansMissing": {sayPlansMissing([]string{"2w57bede", "aa22bb33"})},
		"sayDemoNeeds":    {sayDemoNeeds("git", "Git")},
		"sayGranted":      {sayGranted()},
		"sayIgnored":      {sayIgnored(41, "Idris Keane", "it is not signed")},
		"sayNothingWaits": {sayNothingWaits()},
		"sayStillWaits":   {sayStillWaits(4, "1 of the holders of ticket-owners") + " " + sayStillWaits(1, "the owner of tickets")},
		"sayTaken": {
			sayTaken(&decisions.Taken{By: "E0061", Signed: true, Decision: ledger.Decision{Plan: "2w57bede", Verdict: "accept", All: true, Because: "reviewed"}}),
			sayTaken(&decisions.Taken{By: "Idris Keane", Again: true, Decision: ledger.Decision{Plan: "2w57bede", Verdict: "reject", Changes: []string{"a", "b"}}}),
		},
		"sayTravels":  {sayTravels("yes.txt")},
		"sayWaitsFor": {sayWaitsFor(4, "1 of the holders of ticket-owners")},
		"sayMoved": {sayMoved(&ledger.Move{
			From: ".pravet/ledger.db", To: "postgres://db.ferries.example/pravet, schema pravet", Head: ledger.Head{Seq: 60, Hash: "ab12"},
		})},
		"sayWhole":       {sayWhole(1, "ab12")},
		"sayWrittenOnly": {sayWrittenOnly("tickets")},
		"sayWrote":       {sayWrote([]string{"a", "b", "c", "d", "e", "f", "g"})},
	})
}
