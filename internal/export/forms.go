package export

import (
	"pravet/internal/core/model"
	"pravet/internal/form"
)

// What files say of columns, and of where a directory has what.
var (
	ColumnsForm = (&form.Object{
		Name: "columns", Doc: "Our attribute, and theirs: the column, or the path in a SCIM resource",
		Keys: []form.Key{{
			Name: Status, Is: form.In(StatusForm), Doc: "The state of accounts, with a word for each that there is",
		}},
	}).Open("an attribute", ColumnShape)
	ColumnShape = form.Any(form.Text("the column"), form.In(ColumnForm))
	ColumnForm  = &form.Object{
		Name: "a column", Doc: "A column with its words or its separator",
		Keys: []form.Key{
			{Name: "column", Is: form.Text("the column"), Doc: "Its header, or the path in a SCIM resource"},
			{
				Name: "columns", Is: form.MapOf("a thing's name", form.Text("its column")),
				Doc: "Of groups, roles or licenses: a column for each",
			},
			{Name: "true", Is: form.Text("a word"), Doc: "What stands there for yes"},
			{Name: "false", Is: form.Text("a word"), Doc: "What stands there for no"},
			{Name: "split", Is: form.Text(""), Doc: "What stands between several in one cell"},
			{Name: "date", Is: form.Text("a form of dates"), Doc: "How dates are written, for example DD.MM.YYYY"},
		},
		Some: []form.Choice{{
			Keys: []string{"column", "columns"}, Just: true,
			Says: "the entry takes one of column and columns", Hint: "write column: COLUMN",
		}},
		Apart: [][2]string{{"split", "columns"}, {"date", "columns"}},
	}
	StatusForm = &form.Object{
		Name: "status",
		Doc:  "The column that shows the state of accounts, with a word for each state that the application has",
		Keys: []form.Key{
			{Name: "column", Is: form.Text("the column"), Need: true, Doc: "Its header, or the path in a SCIM resource"},
			{
				Name: model.Open.String(), Is: form.Text("a word"), Need: true, Doc: "Sign-in is possible",
				Lacks: "status has no word for open", Add: "open: WORD",
			},
			{
				Name: model.Blocked.String(), Is: form.Text("a word"), Need: true, Doc: "Sign-in is blocked",
				Lacks: "status has no word for blocked", Add: "blocked: WORD",
			},
			{Name: model.Invited.String(), Is: form.Text("a word"), Doc: "Invited, and not there yet"},
			{Name: model.Removed.String(), Is: form.Text("a word"), Doc: "Removed, and still shown"},
		},
	}
	BlockForm = &form.Object{
		Name: "block", Doc: "How a directory blocks an account",
		Keys: []form.Key{
			{Name: "attribute", Is: form.Text("an attribute"), Need: true, Doc: "Which attribute says so"},
			{Name: "open", Is: form.Text(""), Doc: "Its value where sign-in is possible; none unless given"},
			{Name: "blocked", Is: form.Text(""), Need: true, Doc: "Its value where sign-in is blocked"},
		},
	}
	// DirectoryKeys say where a directory has what.
	DirectoryKeys = []form.Key{
		{Name: "people", Is: form.Text("a DN"), Doc: "The branch of accounts"},
		{Name: "groups", Is: form.Text("a DN"), Doc: "The branch of groups"},
		{Name: "roles", Is: form.Text("a DN"), Doc: "The branch of roles"},
		{Name: "away", Is: form.Text("a DN"), Doc: "The branch that blocked accounts are moved to"},
		{Name: "class", Is: form.Names("object classes"), Doc: "Those of an account; inetOrgPerson unless given"},
		{Name: "name", Is: form.Text("an attribute"), Doc: "What names an account; uid unless given"},
		{
			Name: "member", Is: form.Text("an attribute"),
			Doc: "What lists members, in entries whose class does not say; else member, uniqueMember or memberUid by the class",
		},
		{Name: "keep", Is: form.Text("a DN"), Doc: "An entry that stays in groups that need a member, when the last one leaves"},
		{Name: "block", Is: form.In(BlockForm), Doc: "How the directory blocks an account"},
	}
)
