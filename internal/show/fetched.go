package show

import "fmt"

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
	if list == nil {
		list = []Fetching{}
	}
	t := &Table{
		Headers: []string{"application", "accounts", "before", "taken", "what"},
		Keys:    []string{"app", "accounts", "before", "takenAt", "what"},
		Right:   map[int]bool{1: true, 2: true}, Items: list,
	}
	for _, f := range list {
		row := []string{f.App, "", "", f.TakenAt, "could not be fetched"}
		if f.Error == "" {
			row[1], row[4] = fmt.Sprint(f.Accounts), "fetched"
			if f.Same {
				row[4] = "fetched, as before"
			}
		}
		if f.Before >= 0 {
			row[2] = fmt.Sprint(f.Before)
		}
		t.Rows = append(t.Rows, row)
	}
	return t
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
	if list == nil {
		list = []Reached{}
	}
	keys := []string{"application", "what", "may", "says"}
	t := &Table{Headers: []string{"application", "what", "", "what it says"}, Keys: keys, Items: list}
	for _, r := range list {
		t.Rows = append(t.Rows, []string{r.App, r.What, yesNo(r.May), r.Says})
	}
	return t
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}
