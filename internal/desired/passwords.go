package desired

import (
	"filippo.io/age"
	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/passwords"
)

// FirstPasswords say who may read the first passwords of new accounts, and where they are put.
type FirstPasswords struct {
	To     []age.Recipient
	Folder string
}

func (r *Repo) readFirstPasswords(d *doc, n *yaml.Node) {
	if n == nil {
		return
	}
	f := d.fields(n, "firstPasswords", "to", "folder")
	x := &FirstPasswords{Folder: "passwords"}
	if f["folder"] != nil {
		x.Folder = d.text(f["folder"], "folder")
		if err := r.Tree.Allowed(x.Folder); err != nil {
			d.problem(f["folder"], "outside", "the folder is outside of the repository", "name one below it")
		}
	}
	for _, item := range d.list(f["to"], "to") {
		to, err := passwords.Recipient(d.text(item, "to"))
		if err != nil {
			d.problem(item, "bad-recipient", err.Error(), "")
			continue
		}
		x.To = append(x.To, to)
	}
	if f["to"] == nil {
		d.problem(n, "missing-key", "nobody could read the first passwords", "add to: [age1…]")
	}
	r.FirstPasswords = x
}

// checkFirstPasswords makes sure that somebody can read them, where there are any.
func (r *Repo) checkFirstPasswords() {
	for _, c := range r.Connects {
		if c != nil && c.First && r.FirstPasswords == nil {
			r.fail(
				c.Pos, "missing-key", "new accounts get a first password, and pravet.yaml does not say who may read it",
				"add firstPasswords: {to: [age1…]} there",
			)
		}
	}
}
