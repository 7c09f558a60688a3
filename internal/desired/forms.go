package desired

import "pravet/internal/form"

// Forms are the kinds of files that a repository has, and what may stand in each.
func Forms() []form.File {
	return []form.File{
		{Name: "pravet", Title: "pravet.yaml: the organization", Is: rootForm},
		{Name: "people", Title: "people/*.yaml: people kept by hand", Is: peopleForm},
		{Name: "app", Title: "apps/ID.yaml: an application", Is: appForm},
		{Name: "kits", Title: "kits/*.yaml: kits and who holds them", Is: kitsForm},
		{Name: "paths", Title: "paths/*.yaml: how accounts end", Is: pathsForm},
		{Name: "standing", Title: "standing.yaml: decisions that stand", Is: standingForm},
	}
}
