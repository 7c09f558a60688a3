package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/desk"
	"pravet/internal/show"
)

// dayFlags adds --on, for what is due on a day, and --at, for how it was on one.
func dayFlags(cmd *cobra.Command, on, at *string) {
	cmd.Flags().StringVar(on, "on", "", "what is due on this day by the files and exports of today, YYYY-MM-DD")
	cmd.Flags().StringVar(at, "at", "", "how it was at the end of this past day, by what is on record, YYYY-MM-DD")
	cmd.MarkFlagsMutuallyExclusive("on", "at")
}

// missing says on standard error which exports are not there.
func (c *program) missing(x *desk.Sight) {
	for _, m := range x.Missing {
		fmt.Fprintln(c.Stderr, m)
	}
}

// asOf names the records that an answer about a past day is drawn from.
func asOf(x *desk.Sight) string {
	return sayAsOf(x.Day.String(), x.Known.Revision[:min(10, len(x.Known.Revision))], x.Known.Exports)
}

// follows says on standard error what an answer follows from: which exports are not there and, of a
// past day, what is on record.
func (c *program) follows(x *desk.Sight) error {
	c.missing(x)
	if x.Known == nil {
		return nil
	}
	pr := show.NewPrinter(c.Stderr, c.Environ)
	pr.Line(show.Dim(asOf(x)))
	return pr.Err()
}

// sayAsOf names the records that an answer about a past day is drawn from: the files of a
// revision, "" where none of that day is known, and the exports.
func sayAsOf(on, revision string, exports []string) string {
	files := "the files as they are now, for no revision of that day is on record"
	if revision != "" {
		files = "the files of revision " + revision
	}
	text := fmt.Sprintf("As of %s, by %s", on, files)
	if len(exports) > 0 {
		text += "; " + strings.Join(exports, ", ")
	}
	return text + "."
}
