// Package fact holds what reasons, holds and notices say, as values: which kind of
// thing is so, and of what, of whom, how many. They are computed with and written
// to plans; only package words turns them into English.
package fact

// A Kind is what a fact is about.
type Kind string

// The kinds of reasons.
const (
	KitRule        Kind = "kit-rule"        // Kit has its Rule, which the person matches
	KitHolder      Kind = "kit-holder"      // Kit is held by name, Until a day, Because
	UsualThing     Kind = "usual-thing"     // Thing is the default of the kind Other
	KitWith        Kind = "kit-with"        // Kit comes with kit Other
	KitSets        Kind = "kit-sets"        // Kit sets Attribute to Value
	NoKit          Kind = "no-kit"          // Person has no kit that gives Thing, or with none anything in App
	KitLacks       Kind = "kit-lacks"       // Kit gives it, along with Via, for its Rule, and Attribute is Value
	KitByName      Kind = "kit-by-name"     // Kit gives it, along with Via, by name only
	KitExcepts     Kind = "kit-excepts"     // Kit excepts the person, Because
	KitWasHeld     Kind = "kit-was-held"    // Kit was held by name Until a day
	KitsMore       Kind = "kits-more"       // Count more kits give it to others
	NobodyGets     Kind = "nobody-gets"     // no kit gives Thing to anyone
	OutOfScope     Kind = "out-of-scope"    // the scope, as Other says of which application, has its Rule; Attribute is Value
	Away           Kind = "away"            // Person is away
	NotYet         Kind = "not-yet"         // Person starts on On
	Ended          Kind = "ended"           // Person ended on On
	Closed         Kind = "closed"          // App is closed from On Until a day, Because
	HasValue       Kind = "has-value"       // Attribute is Value
	Follows        Kind = "follows"         // account Attribute follows the person's Other
	Tidy           Kind = "tidy"            // Thing stays, as something else brings it along
	BringsAlong    Kind = "brings-along"    // Via brings Thing along
	MakesRoom      Kind = "makes-room"      // a cell of Other holds one name, and Via brings Thing along
	Undefined      Kind = "undefined"       // Thing is Pravet's own, and App has none of that name
	Retired        Kind = "retired"         // Thing is to go
	StillThere     Kind = "still-there"     // App has it still
	InCatalog      Kind = "in-catalog"      // Attribute of the definition is Names, or Value
	InApp          Kind = "in-app"          // and in App it is
	OnPath         Kind = "on-path"         // step Count of Whole of the path Other: Attribute, After the one before was done On
	Listed         Kind = "listed"          // it is on the list Other
	AccountMatches Kind = "account-matches" // Account matches Rule
	Idle           Kind = "idle"            // nobody has signed in to Account since On, for Limit or longer
	NeverActive    Kind = "never-active"    // nobody ever has, and it was made On, Limit ago or longer
	NobodysOwn     Kind = "nobodys"         // nobody's Attribute is Account
	InvitedFor     Kind = "invited-for"     // Account was invited for the Count time On, and the invitation is valid for Limit
	KitLingers     Kind = "kit-lingers"     // Kit was due for its Rule until On, and what it gave stays Until a day
	Registered     Kind = "registered"      // Person registered the account Account by themselves
	Undoes         Kind = "undoes"          // it undoes a change of the run Other, whose verb is Value
	KeyOld         Kind = "key-old"         // the key of an account is of On, or of nobody knows when, and is made anew every Limit
	Stray          Kind = "stray"           // strays: Value; nobody's Attribute is Account
)

// The kinds of holds.
const (
	Beyond        Kind = "beyond"         // Count accounts, of Whole, as Other says which, and Limit allows Allowed
	NewHolders    Kind = "new-holders"    // Count accounts would come to have Thing, of Whole, and Limit allows Allowed
	NewHolder     Kind = "new-holder"     // Thing is sensitive; Count new holders of such, and Limit allows Allowed
	FirstHolder   Kind = "first-holder"   // nobody has Thing; Count first holders, and Limit allows Allowed
	NotBlocked    Kind = "not-blocked"    // Account has not been seen blocked, and must have been for Limit
	BlockedLately Kind = "blocked-lately" // Account has been blocked only since On; it can go Until, Limit later
	NoEnd         Kind = "no-end"         // Person is an outsider, and must have a last day no later than Until, Limit ahead
	NoSponsor     Kind = "no-sponsor"     // Person is an outsider, and nobody who is here answers for them; Other has left
	ForInsiders   Kind = "for-insiders"   // Thing is insiders' only, and Person is none
	NoSuccessor   Kind = "no-successor"   // what Account owns can go to nobody, Because; Place is of the step
	StillOwns     Kind = "still-owns"     // Account still owns Count
	OpensByHand   Kind = "opens-by-hand"  // App has somebody say that Account is opened
	NotAnswered   Kind = "not-answered"   // Person did not answer Count invitations
	KeptBack      Kind = "kept-back"      // Account is kept Until a day, Because, at Place
	EmptyExport   Kind = "empty-export"   // it holds no account
	ShrunkExport  Kind = "shrunk-export"  // it holds Count accounts and held Whole
	ShrunkRoster  Kind = "shrunk-roster"  // the files name Count people and named Whole
	OldExport     Kind = "old-export"     // it was taken Until a day, and On another it is too old
	FutureExport  Kind = "future-export"  // it was taken On a day to come
	PartExport    Kind = "part-export"    // not all who have Thing were shown, Because
	FollowsBlind  Kind = "follows-blind"  // Thing follows Other (Place), and who has that cannot be told
	Ownerless     Kind = "ownerless"      // Other, who answers for Count accounts of programs (Names), is not here; Place
	PasswordAsked Kind = "password-asked" // the person is to have a new first password from On a day on
	PasswordsMade Kind = "passwords-made" // App gets first passwords from us
	EndsSessions  Kind = "ends-sessions"  // Count accounts are suspended, and their sessions end
	LastMember    Kind = "last-member"    // Account is the last that has Thing, which needs a member
	EndedBy       Kind = "ended-by"       // the last account of Person was taken to the end of the path Other (Place), seen On a day
	OnList        Kind = "on-list"        // Person gets no account, as line Count of the list of the path Other (Place) has them
	StaysOpen     Kind = "stays-open"     // Count accounts of nobody (Names) stay open while closed, from On until Until (Place)
	NoName        Kind = "no-name"        // Account has no Attribute, by which it would be found again
	NoLetter      Kind = "no-letter"      // Value, of Person, has the letter Other, which the file of the application cannot hold
	TooLong       Kind = "too-long"       // the Attribute of Person has Count bytes, of Allowed
	NoAccount     Kind = "no-account"     // Via (Place) names Account, which App does not have; Other is near
	NoneFits      Kind = "none-fits"      // the filter Value under Via, at Place, fits no account of App
	HeldWithout   Kind = "held-without"   // Count accounts (Names) have Thing without the Attribute that it needs
	NotHere       Kind = "not-here"       // a back-out gives Person, who is Value (away, gone, not yet), something
	OfNobodyNow   Kind = "of-nobody-now"  // a back-out gives Account, which belongs to nobody, something
	Protected     Kind = "protected"      // Account
	NotPromoted   Kind = "not-promoted"   // from Other within Limit, as Place says; On: when it was last
	DoubleAccount Kind = "double-account" // Person has the accounts Names
	RepeatedName  Kind = "repeated-name"  // several accounts have Attribute Account
	SharedAccount Kind = "shared-account" // Person has the same Attribute
	AlikeName     Kind = "alike-name"     // Account of nobody is written nearly so; mend Attribute or Other
	AlikeValue    Kind = "alike-value"    // it has Value under Via
	AlikePerson   Kind = "alike-person"   // it has the same display name and department
	NoSuchThing   Kind = "no-such-thing"  // App has no Thing; Other is near
	FixedValue    Kind = "fixed-value"    // Attribute cannot change from Value to Other
	NoMatchValue  Kind = "no-match-value" // Person has no Attribute
	NoValue       Kind = "no-value"       // Thing needs Attribute, and Person has none
	Clashing      Kind = "clashing"       // Kit sets Attribute to Value, and Other otherwise
	OneName       Kind = "one-name"       // Account would have Count of the list Thing
	NoRoom        Kind = "no-room"        // no account can be added, Because
	StillDue      Kind = "still-due"      // Thing would make room for what does not come
	Refused       Kind = "refused"        // the application refuses, Because
	NoSeat        Kind = "no-seat"        // of Thing: Whole, Count held, Freed, Wanted; Person (Value), last Other (Via)
	NoSeatNow     Kind = "no-seat-now"    // of Thing, Whole bought, Count held
	SeatsBeyond   Kind = "seats-beyond"   // Count accounts more would have Thing, Whole bought, Allowed more needed
	SeatsNow      Kind = "seats-now"      // Thing would be held by Count, Whole bought
	TooFew        Kind = "too-few"        // Count active holders of Thing would stay, of Allowed
	TooFewBetween Kind = "too-few-between"
	Apart         Kind = "apart"        // Person would hold Names, kept apart by Other at Place
	ApartToday    Kind = "apart-today"  // Person would, with what is held today
	ApartLater    Kind = "apart-later"  // Person loses Thing only after this
	StillHeld     Kind = "still-held"   // Thing would be held by Names
	HeldAlready   Kind = "held-already" // Thing is held by Names, so App must have it
	StillBrings   Kind = "still-brings" // Via, not in the catalog, brings Thing along
)

// The kinds of notices.
const (
	NameLess       Kind = "nameless"        // Count accounts have no Attribute
	LeftAlone      Kind = "left-alone"      // the accounts Names, Count of them
	OfNobody       Kind = "of-nobody"       // the accounts Names
	Unmanaged      Kind = "unmanaged"       // Count holdings of the kind Thing, of Names
	DoubleHeld     Kind = "double-held"     // Thing is held directly by Names although something brings it
	RetiredGone    Kind = "retired-gone"    // Thing, at Place
	NestedMore     Kind = "nested-more"     // group Thing is within group Via in the application only
	NestedLess     Kind = "nested-less"     // in the catalog only
	NestedInner    Kind = "nested-inner"    // group Via, not in the catalog, is within group Thing
	Dangling       Kind = "dangling"        // members Names, whom no account is there for
	AlmostAlike    Kind = "almost-alike"    // Person is to get an account Account, and Other of nobody is nearly so
	SeatsOver      Kind = "seats-over"      // Count hold Thing, Whole bought
	SeatsMissing   Kind = "seats-missing"   // Allowed of Thing missing; Whole bought, Count held, Freed; cost Value
	SeatsOfNobody  Kind = "seats-of-nobody" // Thing is held by Names, cost Value
	SeatsOfBlocked Kind = "seats-of-blocked"
	ApartAlready   Kind = "apart-already"  // Names hold what Other keeps apart, at Place
	ApartAllowed   Kind = "apart-allowed"  // Person may hold Names, kept apart by Other, Until a day, Because, at Place
	HandOver       Kind = "hand-over"      // Count that Account of Person owns are to go to Other; Because: what is wrong with that
	FoundFormer    Kind = "found-former"   // Account is Person's by an earlier name; Attribute stays as it is, if given
	FoundByEmail   Kind = "found-by-email" // Person registered Account by themselves; likewise
	WaitingFor     Kind = "waiting-for"    // Names of Person wait until the invitation to Account is accepted, which expires On
	Lingering      Kind = "lingering"      // Count people, Names, keep what Kit gave, the first Until a day
	NoDate         Kind = "no-date"        // of Count accounts, Names, Attribute is no date, or one to come
	RemovedSoon    Kind = "removed-soon"   // Count accounts, Names, will be due to be removed, the first On
	SeenLater      Kind = "seen-later"     // of Count accounts, Names, steps were seen done after the plan's day, the last On
	WaitsAnew      Kind = "waits-anew"     // of Count accounts, Names, the ledger does not know since when their steps are done
	NotUndone      Kind = "not-undone"     // a change of Account, whose verb is Value, is not undone, Because
	GuardLifted    Kind = "guard-lifted"   // Thing is lifted Until a day, Because; Count holds
)

// The kinds of warnings about the files.
const (
	ApartInFiles    Kind = "apart-in-files"   // Count people, Names, would have both sides of the separation Other
	SeatsInFiles    Kind = "seats-in-files"   // Count people would need a seat of Thing in App, Whole bought
	DecidesNoMore   Kind = "decides-no-more"  // Value: a rule of who decides that is there no longer
	DecidesNow      Kind = "decides-now"      // Value: one that is new
	SensitiveGained Kind = "sensitive-gained" // Count people, Names, come to have Thing of App, Because; before: Via
)

// The kinds of what falls due on a day.
const (
	FallsStart     Kind = "starts"             // Person
	FallsEnd       Kind = "ends"               // Person's last day
	FallsLead      Kind = "account-ahead"      // an account of Person in App is made; the first day is Until
	FallsAway      Kind = "goes-away"          // Person
	FallsBack      Kind = "comes-back"         // Person's last day away
	FallsLacking   Kind = "lacks"              // Person starts, and Thing of App needs Attribute
	FallsMissing   Kind = "is-missing"         // Person is here, and Thing of App needs Attribute
	FallsStep      Kind = "step"               // step Value of the path Other falls due for Account
	FallsWarning   Kind = "warning"            // it will, Until a day
	FallsInvited   Kind = "invitation-expires" // that of Person to Account
	FallsLinger    Kind = "lingers-until"      // Person keeps what Kit gave for the last day
	FallsKit       Kind = "kit-ends"           // Person holds Kit by name for the last day
	FallsExcept    Kind = "except-ends"        // Person is excepted from Kit for the last day
	FallsRejection Kind = "rejection-ends"     // of the change Value, Because
	FallsLift      Kind = "lift-ends"          // of the guard Thing, in App or in all, Because
	FallsException Kind = "exception-ends"     // Person may break the separation Other for the last day
	FallsKept      Kind = "kept-ends"          // Value is kept for the last day, Because
	FallsClosed    Kind = "closes"             // App, until Until, Because
	FallsOpen      Kind = "opens-again"        // App
	FallsMatch     Kind = "rule-begins"        // the rule of Kit begins to match Person
	FallsMatchEnd  Kind = "rule-ends"          // and no longer matches
	FallsShort     Kind = "seats-run-short"    // Count of Thing in App, Whole bought
)

// Stands is that an account has Count of Whole steps of the path Other behind it, Attribute
// the last, On a day; Value is next, Until a day.
const Stands Kind = "stands"

// A Fact is one thing that is so. Which of its values mean something follows from
// its kind. They stand in the order of their names, as plans have them.
type Fact struct {
	Account   string   `json:"account,omitempty"`
	Allowed   int      `json:"allowed,omitempty"`
	App       string   `json:"app,omitempty"`
	Attribute string   `json:"attribute,omitempty"`
	Because   string   `json:"because,omitempty"`
	Count     int      `json:"count,omitempty"`
	Freed     int      `json:"freed,omitempty"`
	Kind      Kind     `json:"kind"`
	Kit       string   `json:"kit,omitempty"`
	Limit     string   `json:"limit,omitempty"`
	Names     []string `json:"names,omitempty"` // the first of many
	On        string   `json:"on,omitempty"`    // a day
	Other     string   `json:"other,omitempty"`
	Person    string   `json:"person,omitempty"`
	Place     string   `json:"place,omitempty"` // file:line
	Rule      string   `json:"rule,omitempty"`  // a SCIM filter
	Thing     string   `json:"thing,omitempty"` // kind and name
	Until     string   `json:"until,omitempty"` // a day
	Value     string   `json:"value,omitempty"`
	Via       string   `json:"via,omitempty"` // what brings something along
	Wanted    int      `json:"wanted,omitempty"`
	Whole     int      `json:"whole,omitempty"`
}

// MaxNames is how many names a fact has; the rest is counted by Count.
const MaxNames = 5
