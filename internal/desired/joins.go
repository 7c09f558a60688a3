package desired

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/form"
	"pravet/internal/source"
)

var invitationForm = &form.Object{
	Name: "invitation", Doc: "How people are invited",
	Keys: []form.Key{
		{
			Name: "valid", Is: form.For("P14D"), Need: true, Doc: "How long an invitation can be accepted",
			Lacks: "an invitation needs some time to be accepted", Add: "valid: P14D",
		},
		{Name: "again", Is: form.AtLeast(0), Doc: "How often one that was not answered is sent again"},
		{
			Name: "message", Is: form.Text("the path of a file"),
			Doc: "The text; {attribute} stands for the person's",
		},
		{
			Name: "with", Is: form.Some("groups", "roles", "licenses"),
			Doc: "What is given along with it; the rest waits until it is accepted",
		},
	},
}

// readJoins reads how people come to an application and come back to it: whether they are
// invited, whether somebody opens their accounts by hand, and how long a removed account
// can be restored.
func (r *Repo) readJoins(app *model.App, f values) {
	d := f.d
	if f.word("joins") == "invited" {
		app.Invites = r.readInvitation(f)
		if n := f.node("joinsFor"); n != nil {
			app.InvitesFor = f.filter("joinsFor")
			r.use(d, n, app.InvitesFor, "joinsFor of "+app.ID)
		}
	}
	if n := f.node("opens"); n != nil {
		app.ByHand = f.word("opens") == "by hand"
		if n := f.node("opensFor"); n != nil {
			app.ByHandFor = f.filter("opensFor")
			r.use(d, n, app.ByHandFor, "opensFor of "+app.ID)
		}
		if app.ByHand && app.Invites != nil && app.InvitesFor == nil {
			d.problem(n, "two-rules", "whoever accepts an invitation opens the account", "take opens or joins out")
		}
	}
	app.Restores = f.duration("restoreWithin")
	if n := f.node("lead"); n != nil && app.Invites != nil {
		d.problem(
			n,
			"two-rules",
			"lead cannot be combined with joins: invited, because someone invited early could also accept early",
			"remove lead (people are then invited on their first day)",
		)
	}
}

func (r *Repo) readInvitation(of values) *model.Invitation {
	d, n := of.d, of.node("invitation")
	if n == nil {
		d.problem(
			of.node("joins"),
			"missing-key",
			"people are invited, and nothing says for how long",
			"add invitation: {valid: P14D}",
		)
		return &model.Invitation{Pos: of.pos("joins")}
	}
	f := of.within("invitation")
	x := &model.Invitation{Pos: d.pos(n), Valid: f.duration("valid")}
	if x.Valid == (day.Duration{}) && f.has("valid") {
		d.problem(
			f.node("valid"),
			"wrong-duration",
			"an invitation needs some time to be accepted",
			"add valid: P14D",
		)
	}
	x.Again, x.With = f.whole("again", 0), f.kinds("with")
	if m := f.node("message"); m != nil {
		x.Message = r.template(f.text("message"), d.pos(m), model.Fields())
	}
	return x
}

// maxTemplate is how long a template may be, in bytes.
const maxTemplate = 64 << 10

// template reads a text that names attributes of a person, or other fields, in braces.
func (r *Repo) template(file string, named model.Pos, fields []string) string {
	return r.text(file, named, fields, func(name string, report func(says, hint string)) {
		r.attribute(
			name,
			func(says, hint string) { report(says, hint+"; other fields are "+strings.Join(fields, ", ")) },
		)
	})
}

// fields reads a text that names some fields in braces, and nothing else.
func (r *Repo) fields(file string, named model.Pos, fields []string) string {
	return r.text(file, named, fields, func(name string, report func(says, hint string)) {
		report("there is no such field", didYouMean(name, fields, "there are "))
	})
}

// text reads a text with names in braces; other judges those that are no fields.
func (r *Repo) text(
	file string, named model.Pos, fields []string, other func(name string, report func(says, hint string)),
) string {
	if file == "" {
		return ""
	}
	data, ok := r.readNamed(file, named, maxTemplate)
	if !ok {
		return ""
	}
	text := string(data)
	if !utf8.ValidString(text) {
		r.fail(model.Pos{File: file, Line: 1}, "not-utf8", "the template is not UTF-8", "save it as UTF-8")
		return ""
	}
	if strings.TrimSpace(text) == "" {
		r.fail(
			model.Pos{File: file, Line: 1},
			"empty-file",
			"the template is empty",
			"write the text, or take out where it is named",
		)
		return ""
	}
	names, at := model.FieldsIn(text)
	for i, name := range names {
		if slices.Contains(fields, name) {
			continue
		}
		before := text[:at[i]]
		line := before[strings.LastIndex(before, "\n")+1:]
		pos := model.Pos{
			File: file, Line: strings.Count(before, "\n") + 1, Column: utf8.RuneCountInString(line) + 1,
		}
		other(name, func(says, hint string) {
			r.fail(pos, "unknown-field", fmt.Sprintf("the template names {%s}, and %s", name, says), hint)
		})
	}
	return strings.TrimRight(text, "\n")
}

// readNamed reads a file that another one names; where it cannot be read, that is a problem
// which says where it is named.
func (r *Repo) readNamed(file string, named model.Pos, limit int64) (data []byte, ok bool) {
	data, sum, _, err := r.Tree.ReadAll(r.ctx, file, limit)
	if err != nil {
		var p *source.Problem
		if !errors.As(err, &p) {
			p = source.Unreadable(file, err)
		}
		p.Hint = strings.TrimPrefix(p.Hint+fmt.Sprintf("; it is named in %s", named), "; ")
		r.Problems.Add(p)
		return nil, false
	}
	r.sums[file] = sum
	r.Files++
	return data, true
}

// joins checks that an export shows what inviting and restoring need.
func (d *doc) joins(f values, app *model.App, s *export.Spec) {
	lacks := func(n *yaml.Node, says, hint string) { d.problem(n, "missing-column", says, hint) }
	if app.Restores != (day.Duration{}) && !s.Shows(model.Removed) {
		lacks(f.node("restoreWithin"), "removed accounts can be restored, and the export has no word for them",
			"add status: {column: COLUMN, open: WORD, blocked: WORD, removed: WORD} under columns")
	}
	if app.Invites == nil {
		return
	}
	if !s.Shows(model.Invited) {
		lacks(f.node("joins"), "joins: invited requires a word for invited accounts in the export",
			"add status: {column: COLUMN, open: WORD, blocked: WORD, invited: WORD} under columns")
	}
	if app.Invites.Again > 0 && s.Column(model.Sent) == nil {
		lacks(
			orNode(f.node("invitation"), f.node("joins")),
			"invitations are sent again, and the export does not show how often one was sent",
			"add sent: COLUMN under columns, or take again out",
		)
	}
	if app.Invites.Message != "" && s.Column(model.Message) == nil {
		lacks(
			orNode(f.node("invitation"), f.node("joins")),
			"invitations have a message, and columns does not say where it is put",
			"add message: COLUMN under columns",
		)
	}
}
