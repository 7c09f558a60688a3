package desk

import (
	"errors"
	"testing"
	"time"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
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

// What a person at a terminal reads stands in testdata/sentences.txt, each sentence under the name of
// what says it. UPDATE=1 writes it anew; read it.
func TestSentences(t *testing.T) {
	november, december := date("2026-11-24"), date("2026-12-01")
	prepared.Sentences(t, map[string][]any{
		"SayNothingDecided":   {SayNothingDecided()},
		"sayNextAdopt":        {sayNextAdopt()},
		"sayNextDraft":        {sayNextDraft()},
		"sayNextGit":          {sayNextGit()},
		"sayNextPropose":      {sayNextPropose()},
		"sayNotASplit":        {sayNotASplit("Quay")},
		"sayNothingWaits":     {sayNothingWaits("2w57bede", "Mirela Dunn")},
		"SayIdleLinger":       {SayIdleLinger("desk")},
		"sayDraftFailed":      {sayDraftFailed("2026-11-24 10:12 UTC", "kits/a.yaml:3:1: a kit has no gives")},
		"sayNothingAccepted":  {sayNothingAccepted()},
		"saySpanOfDays":       {saySpanOfDays("P9Y", 5)},
		"sayLiftInReview":     {sayLiftInReview("at-least")},
		"sayOvertaken":        {sayOvertaken("2w57bede", []string{"a", "b", "c", "d"}), sayOvertaken("2w57bede", []string{"a"})},
		"sayReviewIsOpen":     {sayReviewIsOpen("2w57bede")},
		"sayReviewUnreadable": {sayReviewUnreadable(".pravet/reviews/2w57bede-x.json")},

		"SayFetchFailed":        {SayFetchFailed(1, 3)},
		"SayNotOneOf":           {SayNotOneOf("format", "xml", []string{"table", "json"})},
		"sayAdoptedBecause":     {sayAdoptedBecause("agreed", "Farah Linden", november)},
		"sayAllRejected":        {sayAllRejected(2, "drncvfz5z3qu")},
		"sayBadEntry":           {sayBadEntry(3, errFull)},
		"sayBecauseOfAdoption":  {sayBecauseOfAdoption()},
		"sayBeforeTheLedger":    {sayBeforeTheLedger("2020-01-01")},
		"sayCannotLift":         {sayCannotLift("impossible")},
		"sayCannotLiftKept":     {sayCannotLiftKept()},
		"sayClaimed":            {sayClaimed("berths")},
		"sayConsentNotRecorded": {sayConsentNotRecorded(errFull)},
		"sayClockBehind":        {sayClockBehind("2026-11-24 09:00 UTC", "2026-11-26 08:00 UTC")},
		"sayOthersWrite":        {sayOthersWrite(30 * time.Second)},
		"sayHeldUp":             {sayHeldUp("berths", "run-3", errFull)},
		"sayPlanNotKept":        {sayPlanNotKept("2w57bede")},
		"sayCorrectTheList":     {sayCorrectTheList()},
		"sayForWhich":           {sayForWhich()},
		"sayForWhom":            {sayForWhom()},
		"sayHasAnAccount":       {sayHasAnAccount("Rosa Engel", "rosa", "slips")},
		"sayHasThatExport":      {sayHasThatExport("exports/slips.csv", "apps/slips.yaml:4:3")},
		"sayIsSomebodys":        {sayIsSomebodys("slips/account/rosa", "Rosa Engel", "C0302")},
		"sayKeptSince":          {sayKeptSince(errFull, "2026-11-24")},
		"sayLedgerBroken":       {sayLedgerBroken("entry 3 is missing")},
		"sayLedgerBrokenBefore": {sayLedgerBrokenBefore("entry 3 is missing")},
		"sayLiftOneByOne":       {sayLiftOneByOne("at-least")},
		"sayListNamesNobody":    {sayListNamesNobody("moved.csv")},
		"sayListWrong":          {sayListWrong("moved.csv", 1)},
		"sayManyCauses":         {sayManyCauses(2, "2")},
		"sayManyChanges":        {sayManyChanges(2, "ab")},
		"sayManyPeople":         {sayManyPeople("Oskar Nyman", []string{"E0042 oskar.nyman Planning"}, 2)},
		"sayMatchesNobody":      {sayMatchesNobody(`title eq "x"`)},
		"sayNobodyIsTold":       {sayNobodyIsTold()},
		"sayNotOfEnvironment":   {sayNotOfEnvironment("test")},
		"sayNoCause":            {sayNoCause("2q", "2w57bede")},
		"sayNoChange":           {sayNoChange("nosuch", "2w57bede")},
		"sayNoDigits":           {sayNoDigits("E")},
		"sayNoGit":              {sayNoGit(errFull)},
		"sayNoLedger":           {sayNoLedger()},
		"sayNoNumbers":          {sayNoNumbers("9-40", 38)},
		"sayNoOtherID":          {sayNoOtherID()},
		"sayNoPerson":           {sayNoPerson("nobody", "")},
		"sayNoPlanYet":          {sayNoPlanYet()},
		"sayNoSuchAccount":      {sayNoSuchAccount("rosa", "slips")},
		"sayNoSuchHead":         {sayNoSuchHead("ab12")},
		"sayNoThing":            {sayNoThing("tickets", model.Role, "sellr", "tickets/role/seller")},
		"sayNoUnattended":       {sayNoUnattended()},
		"sayNobodyBy":           {sayNobodyBy("E9")},
		"sayNoneKept":           {sayNoneKept(errFull)},
		"sayNotAMapping":        {sayNotAMapping("email")},
		"sayNotANumber":         {sayNotANumber("x")},
		"sayNotAPeopleFile":     {sayNotAPeopleFile("kits/x.csv")},
		"sayNotAThing":          {sayNotAThing("tickets/account/x")},
		"sayNotAnAssignment":    {sayNotAnAssignment("department")},
		"sayNotAnID":            {sayNotAnID("No Good")},
		"sayNotBelow":           {sayNotBelow("../x.csv")},
		"sayNotClaimed":         {sayNotClaimed("berths", errFull)},
		"sayNotCommitted":       {sayNotCommitted([]string{"kits/a.yaml"}, errFull)},
		"sayNotFetched":         {sayNotFetched([]string{"rosters"})},
		"sayNotInPlan":          {sayNotInPlan("person", "E0024", "with a change in the plan", "E0042")},
		"sayNotOnRecord":        {sayNotOnRecord("run-9")},
		"sayNotPast":            {sayNotPast(december)},
		"sayNotToday":           {sayNotToday("2026-12-01", "2026-11-24")},
		"sayNothingFits":        {sayNothingFits()},
		"sayNothingOnRecord":    {sayNothingOnRecord("the application", "tickts", "tickets")},
		"sayNothingToDecide":    {sayNothingToDecide("2w57bede")},
		"sayOneCharacter":       {sayOneCharacter(";;")},
		"sayOnlyForGood":        {sayOnlyForGood(1)},
		"sayOtherEnvironment":   {sayOtherEnvironment("2w57bede", "rehearsal", "")},
		"sayOutIsTaken":         {sayOutIsTaken("pravet.yaml")},
		"sayProblems":           {sayProblems(1)},
		"sayRevisionProblems":   {sayRevisionProblems("HEAD~1", 2, errFull)},
		"saySetsNothing":        {saySetsNothing("title")},
		"saySourceFailed":       {saySourceFailed("hr", errFull)},
		"saySpanTurned":         {saySpanTurned(december, november)},
		"sayStillThere":         {sayStillThere("drncvfz5z3qu")},
		"sayTooOldToDecide":     {sayTooOldToDecide("2w57bede", []string{"the files have changed", "tickets has changed"})},
		"sayUnattended":         {sayUnattended(`verb eq "suspend"`)},
		"sayUncommitted":        {sayUncommitted([]string{"kits/a.yaml", "people/b.csv"})},
		"sayUntilIsOver":        {sayUntilIsOver(november, december)},
		"sayWholePlan":          {sayWholePlan([]string{"seats"})},
		"sayAnsweredWithout":    {sayAnsweredWithout("postgres://db.ferries.example/pravet, schema pravet", errFull)},
		"sayNobodyDecides":      {sayNobodyDecides("2 of the holders of ticket-owners", 1)},
		"sayHangsOn":            {sayHangsOn("2 of the holders of ticket-owners", 2)},
		"sayOnlySoMany":         {sayOnlySoMany(0), sayOnlySoMany(3)},
		"sayThereAlready":       {sayThereAlready("yes.txt")},
		"sayBadNote":            {sayBadNote("hello")},
		"sayNotAsNoted":         {sayNotAsNoted(&note{Seq: 41, By: "Idris Keane", At: "2026-11-24T09:00:00Z"})},
		"sayNoteNotProved":      {sayNoteNotProved(&note{Seq: 41, By: "Idris Keane", At: "2026-11-24T09:00:00Z"}, errFull)},
		"sayNotNoted":           {sayNotNoted(41, errFull)},
		"sayWaitsForYou":        {sayWaitsForYou(1, "2w57bede", "tickets: grant role seller"), sayWaitsForYou(4, "2w57bede", "tickets: grant role seller")},
		"sayWhichDays":          {sayWhichDays()},
		"sayNoDatabase":         {sayNoDatabase()},
		"sayNobodyRuns":         {sayNobodyRuns()},
		"saySeveralPlans":       {saySeveralPlans(2, "2w")},
		"sayWouldNotPass":       {sayWouldNotPass(2)},
	})
}
