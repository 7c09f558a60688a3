package show

import "pravet/internal/core/letter"

// LetterTable is letters that are due, for programs.
func LetterTable(list []letter.Letter) *Table {
	if list == nil {
		list = []letter.Letter{}
	}
	keys := []string{"id", "reader", "to", "subject", "body"}
	t := &Table{Headers: keys, Keys: keys, Items: list}
	for _, l := range list {
		t.Rows = append(t.Rows, []string{l.ID, l.Reader, l.Address, l.Subject, l.Body})
	}
	return t
}
