package show

import "pravet/internal/core/letter"

// LetterTable is letters that are due, for programs.
func LetterTable(list []letter.Letter) *Table {
	return tableOf(list, both("id", "reader", "to", "subject", "body"), func(l *letter.Letter) []any {
		return []any{l.ID, l.Reader, l.Address, l.Subject, l.Body}
	})
}
