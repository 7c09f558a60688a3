package show

import (
	"fmt"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/propose"
)

// ProposalTable is for programs.
func ProposalTable(list []propose.Proposal) *Table {
	return tableOf(list, both("kit", "for", "gives", "explains", "people", "sure", "exceptions"), func(x *propose.Proposal) []any {
		return []any{
			x.Kit, x.For, strings.Join(x.Gives, " "), x.Explains, x.People, x.Sure, strings.Join(x.Exceptions, " "),
		}
	})
}

// mostExcepted is how many exceptions are named of one kit.
const mostExcepted = 6

// Proposals writes the kits that were found; held counts what no rule explained before.
func (p *Printer) Proposals(list []propose.Proposal, held int, full bool) {
	if len(list) == 0 {
		p.Linef("No rule was found in %s that no kit's rule explains.", model.Count(held, "holding", "holdings"))
		return
	}
	explained := 0
	for _, x := range list {
		explained += x.Explains
	}
	p.Linef(
		"%s of %s that no rule explains so far: %s.",
		Strong(model.Count(len(list), "rule explains", "rules explain")+" "+model.Thousands(explained)),
		model.Count(held, "holding", "holdings"),
		fmt.Sprintf("%d%%", 100*explained/max(1, held)),
	)
	for i := range list {
		if i == mostRows && !full {
			p.Line()
			p.Line(Dim("and " + model.Count(len(list)-i, "more kit", "more kits") + "; --full shows them all"))
			break
		}
		x := &list[i]
		p.Line()
		sure := fmt.Sprintf("%d%% sure", x.Sure)
		title := Strong(words.Clean(x.Kit)) + "  " + Dim(sure)
		if x.Sensitive {
			title += "  " + Alarm("sensitive")
		}
		p.Line(title)
		rule := x.For
		if rule == "" {
			rule = "everyone"
		}
		p.labelled("  for      ", words.Clean(rule), nil)
		p.labelled("  gives    ", words.Clean(strings.Join(x.Gives, ", ")), nil)
		p.labelled(
			"  explains ",
			fmt.Sprintf(
				"%s of %s",
				model.Count(x.Explains, "holding", "holdings"),
				model.Count(x.People, "person", "people"),
			),
			nil,
		)
		if x.Wider != "" {
			p.labelled("  wider    ", words.Clean(fmt.Sprintf("%s; %d more would match, and none of them has it: %d of %d have %s",
				x.Wider, x.Spared, x.Spared, x.Spared, x.Common)), Dim)
		}
		if n := len(x.Exceptions); n > 0 {
			names := x.Exceptions
			more := ""
			if n > mostExcepted && !full {
				names, more = names[:mostExcepted], fmt.Sprintf(" and %s more", model.Thousands(n-mostExcepted))
			}
			p.labelled("  but not  ", words.Clean(strings.Join(names, ", ")+more)+", "+
				model.Plural(n, "who lacks some of it and is left out by name", "who lack some of it and are left out by name"), Dim)
			if x.Sharing > 0 {
				p.labelled("           ", words.Clean(fmt.Sprintf("%d of these %d have %s", x.Sharing, n, x.Common)), Dim)
			}
		}
	}
}
