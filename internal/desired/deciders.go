package desired

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"slices"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/decide"
	"pravet/internal/core/filter"
	"pravet/internal/core/table"
	"pravet/internal/form"
	"pravet/internal/signing"
	"pravet/internal/source"
)

var (
	decisionsForm = &form.Object{
		Name: "the entry decisions", Doc: "By what decisions are proved; see together.md",
		Keys: []form.Key{
			{Name: "signed", Is: form.Simple(form.Bool), Doc: "Only what is signed by an SSH key counts", With: form.With("keys")},
			{Name: "keys", Is: form.Text("the path of a file"), Doc: "Whose key is whose: a file of allowed signers, as ssh-keygen has it"},
			{
				Name: "notes", Is: form.Simple(form.Bool),
				Doc: "The newest entry of the record is noted in Git (refs/notes/pravet) with each decision and each run",
			},
			{
				Name: "revoked", Is: form.Text("the path of a file"), With: form.With("keys"),
				Doc: "Public keys that count no longer, one in a line",
			},
		},
	}
	decidersForm = &form.Object{
		Name: "an entry of deciders", Doc: "Who decides about some changes, and how many it takes; see together.md",
		Keys: []form.Key{
			{Name: "changes", Is: form.Simple(form.Filter), Need: true, Doc: "Which, as a filter over changes"},
			{
				Name: "people", Is: form.Any(form.Simple(form.Filter), form.In(decidingForm)),
				Doc: "Who may: those whom a filter matches, the holders of a kit, or the application's owner; anybody unless set",
			},
			{Name: "count", Is: form.AtLeast(1), Doc: "How many of them must have accepted it; 1 unless set"},
			{
				Name: "not", Is: form.Some("drafter", "subject"),
				Doc: "Whose acceptance does not count: of whoever drafted the plan, of whom the change is about",
			},
		},
	}
	decidingForm = &form.Object{
		Name: "people of deciders", Doc: "Who may decide",
		Keys: []form.Key{
			{Name: "kit", Is: form.Text("a kit"), Doc: "Its holders"},
			{Name: "owner", Is: form.Simple(form.Bool), Doc: "The application's owner"},
		},
		Some: []form.Choice{{
			Keys: []string{"kit", "owner"}, Just: true,
			Says: "people takes one of kit and owner", Hint: "write people: {kit: NAME}, people: {owner: true}, or a filter",
		}},
	}
)

// Signing is by what decisions are proved.
type Signing struct {
	Required      bool
	Notes         bool   // heads of the record go into Git notes
	Keys, Revoked string // paths of files
}

// ReadKeys reads whose key is whose from the files of a tree.
func (s *Signing) ReadKeys(ctx context.Context, tree *source.Tree) (*signing.Keys, error) {
	read := func(file string) ([]byte, error) {
		data, _, info, err := tree.ReadAll(ctx, file, maxKeys)
		if err != nil {
			return nil, err
		}
		if info != nil && info.Mode().Perm()&0o002 != 0 { // of a revision there is no file
			return nil, sayKeysOpen(file)
		}
		return data, nil
	}
	data, err := read(s.Keys)
	if err != nil {
		return nil, err
	}
	keys, err := signing.ReadKeys(data, nil)
	if err != nil {
		return nil, sayKeysUnread(s.Keys, err)
	}
	if keys.Len() == 0 {
		return nil, sayNoKeys(s.Keys)
	}
	if s.Revoked != "" {
		if data, err = read(s.Revoked); err == nil {
			if err = keys.Revoke(data); err != nil {
				err = sayKeysUnread(s.Revoked, err)
			}
		}
	}
	return keys, err
}

// maxKeys is how long a file of keys may be, in bytes.
const maxKeys = 4 << 20

// readSigning reads by what decisions are proved.
func (r *Repo) readSigning(of values) {
	if of.has("decisions") {
		f := of.within("decisions")
		r.Signing = &Signing{Required: f.yes("signed"), Notes: f.yes("notes"), Keys: f.text("keys"), Revoked: f.text("revoked")}
	}
}

// readDeciders reads who decides about which changes.
func (r *Repo) readDeciders(of values) {
	for _, n := range of.list("deciders") {
		f := of.d.object(n, decidersForm)
		x := decide.Rule{Changes: f.filter("changes"), Count: 1, Pos: of.d.pos(n)}
		if at := f.node("changes"); at != nil {
			r.ofChanges(of.d, at, x.Changes)
			r.decidable(of.d, at, x.Changes)
		}
		if f.has("count") {
			x.Count = f.whole("count", 1)
		}
		for _, name := range f.names("not") {
			x.NotDrafter = x.NotDrafter || name.Text == "drafter"
			x.NotSubject = x.NotSubject || name.Text == "subject"
		}
		if p := f.node("people"); p != nil && p.Kind == yaml.MappingNode {
			who := f.within("people")
			x.Owner = who.yes("owner")
			if x.Kit = who.text("kit"); x.Kit != "" {
				kit, at := x.Kit, who.node("kit")
				r.deciding = append(r.deciding, func() { r.knownKit(of.d, at, kit) })
			}
		} else if p != nil {
			x.People = f.filter("people")
			r.use(of.d, p, x.People, "people")
		}
		if x.Changes != nil {
			r.Deciders = append(r.Deciders, x)
		}
	}
}

// decidable makes sure that a filter asks nothing that follows from decisions, or that is known of a plan as a whole alone.
func (r *Repo) decidable(d *doc, n *yaml.Node, f *filter.Filter) {
	if f == nil {
		return
	}
	for _, cl := range f.Clauses() {
		if name := table.Fold(cl.Attr); name == "decision" || name == "cause" {
			d.probs.Add(problem(
				d.clausePos(n, cl.Column), "unknown-attribute",
				fmt.Sprintf("who decides cannot depend on %s, which is not known before somebody decides", cl.Attr),
				"ask for the application, what is done, or whom it is about",
			))
		}
	}
}

// knownKit makes sure that there is a kit.
func (r *Repo) knownKit(d *doc, n *yaml.Node, name string) {
	var names []string
	for _, k := range r.Kits {
		names = append(names, k.Name)
	}
	if !slices.Contains(names, name) {
		d.problem(n, "unknown-kit", fmt.Sprintf("there is no kit %q", name), didYouMean(name, names, "there are "))
	}
}

// sayKeysUnread is a file of keys that is not one.
func sayKeysUnread(file string, err error) error { return fmt.Errorf("%s: %w", file, err) }

// sayKeysOpen is a file of keys that anybody may write.
func sayKeysOpen(file string) error {
	return fmt.Errorf("%s: anybody may write this file, so that it proves nothing; take that away with: chmod o-w %[1]s", file)
}

// sayNoKeys is a file of keys without any.
func sayNoKeys(file string) error {
	return fmt.Errorf("%s: there is no key in it, so nobody could decide anything; add lines like: idris@ferries.example ssh-ed25519 AAAA…", file)
}

// Deciding is who decides about changes, and how that is proved, in words: what a reviewer has to see of a commit.
func (r *Repo) Deciding() (out []string) {
	if s := r.Signing; s != nil {
		proof := "decisions count unsigned"
		if s.Required {
			proof = "only signed decisions count"
		}
		out = append(out, proof)
		for _, file := range []string{s.Keys, s.Revoked} {
			if data, _, _, err := r.Tree.ReadAll(r.ctx, file, maxKeys); file != "" && err == nil {
				sum := sha256.Sum256(data)
				out = append(out, fmt.Sprintf("%s with %d lines (SHA-256 %x)", file, bytes.Count(data, []byte{'\n'}), sum[:6]))
			}
		}
	}
	for i := range r.Deciders {
		x := &r.Deciders[i]
		text := fmt.Sprintf("%s: %s", x.Changes, x.Who("the application", x.Count))
		if x.NotDrafter {
			text += ", not the drafter"
		}
		if x.NotSubject {
			text += ", not whom it is about"
		}
		out = append(out, text)
	}
	return out
}
