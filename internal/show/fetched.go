package show

// A Fetching is what came of fetching one application.
type Fetching struct {
	App      string  `json:"app"`
	Accounts int     `json:"accounts"`
	Before   int     `json:"before"` // of the export before; -1 where there was none
	TakenAt  string  `json:"takenAt,omitempty"`
	Digest   string  `json:"digest,omitempty"`
	Same     bool    `json:"same"` // nothing has changed
	Error    string  `json:"error,omitempty"`
	Seconds  float64 `json:"seconds"`
}

// FetchedTable is what came of fetching applications.
func FetchedTable(list []Fetching) *Table {
	return tableOf(list, []Column{
		{Title: "application", Key: "app"}, {Title: "accounts", Key: "accounts", Number: true},
		{Title: "before", Key: "before", Number: true}, {Title: "taken", Key: "takenAt"}, {Title: "what", Key: "what"},
	}, func(f *Fetching) []any {
		var accounts, before *int
		what := "could not be fetched"
		if f.Error == "" {
			if accounts, what = &f.Accounts, "fetched"; f.Same {
				what = "fetched, as before"
			}
		}
		if f.Before >= 0 {
			before = &f.Before
		}
		return []any{f.App, accounts, before, f.TakenAt, what}
	})
}

// A Reached is something that a caller may or may not do in an application.
type Reached struct {
	App  string `json:"app"`
	What string `json:"what"`
	May  bool   `json:"may"`
	Says string `json:"says,omitempty"`
}

// ReachedTable is what callers may and may not do.
func ReachedTable(list []Reached) *Table {
	return tableOf(list, []Column{
		{Title: "application", Key: "application"}, {Title: "what", Key: "what"}, {Title: " ", Key: "may"},
		{Title: "what it says", Key: "says"},
	}, func(r *Reached) []any { return []any{r.App, r.What, yesNo(r.May), r.Says} })
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}
