package prepare

import (
	"context"
	"errors"
	"os"
	"strings"
	"sync"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/source"
)

// history is what Git and the ledger know of how the files were when a plan was
// carried out last.
type history struct {
	dir    string
	zone   day.Zone
	since  map[string]bool // the commits since then; nil where that is not known
	before *model.People   // nil where no row of the people files has changed since
	after  *model.People
	ids    [2]map[string]int // of the people then and now
	lines  map[string]map[int]gitrepo.Change
	single int // lines that were asked for one by one, as their file is large
	kits   kitsThen
}

// kitsThen are the kits of the files as they were, and as they are.
type kitsThen struct {
	now  func() *desired.Repo
	then func() *desired.Repo // nil where no file of kits has changed since, or that is not known
}

// History tells how the files of a plan were when another plan was carried out last,
// for its outline; nil outside of Git. Files that are not those of the plan any more
// tell nothing of people. read reads the files with their people; it is called only where
// some people file has changed.
func History(
	ctx context.Context,
	tree *source.Tree,
	l ledger.Ledger,
	p *plan.Plan,
	rules, read func() *desired.Repo,
) (outline.History, error) {
	if p.Desired.Revision == "" {
		return nil, nil
	}
	h := &history{dir: tree.Dir, zone: l.Zone(), lines: map[string]map[int]gitrepo.Change{}}
	base, err := CarriedOut(l, p.ID)
	if err != nil || base == "" {
		return h, err
	}
	since, ok := gitrepo.Since(tree.Dir, base)
	if !ok {
		return h, nil
	}
	h.since = since
	changed := false
	for _, file := range gitrepo.Changed(tree.Dir, base) {
		changed = changed || strings.HasPrefix(file, "people/")
		if strings.HasPrefix(file, "kits/") {
			h.kits = kitsThen{now: sync.OnceValue(rules), then: sync.OnceValue(func() *desired.Repo { return rulesOf(ctx, tree, base) })}
		}
	}
	if !changed {
		return h, nil
	}
	wanted := map[string]bool{}
	for i := range p.Changes {
		wanted[p.Changes[i].Person] = true
	}
	now := read()
	if now.Problems.Errors() > 0 || now.Digest() != p.Desired.Digest {
		return h, nil
	}
	then, err := peopleOf(ctx, tree, base)
	if err != nil || then == nil {
		return h, err
	}
	h.before, h.after = then, now.People
	h.ids = [2]map[string]int{then.Rows("id", wanted), now.People.Rows("id", wanted)}
	return h, nil
}

// CarriedOut is the revision of the files that the last run was for, not counting
// runs of one plan; "" where there is none, and where l is nil.
func CarriedOut(l ledger.Ledger, but string) (revision string, err error) {
	if l == nil {
		return "", nil
	}
	err = l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.RunStarted}, Newest: true},
		func(e *ledger.Entry) error {
			run, err := ledger.Decode[ledger.Run](e)
			if err != nil || run.Plan == but {
				return err
			}
			var drafted ledger.Plan
			if ok, err := l.Last(ledger.PlanDrafted, run.Plan, &drafted); err != nil || !ok {
				return err
			}
			revision = drafted.Revision
			return ledger.ErrStop
		},
	)
	return revision, err
}

// peopleOf reads the people of a revision; nil where its files do not pass.
func peopleOf(ctx context.Context, tree *source.Tree, revision string) (*model.People, error) {
	s, err := whole(ctx, tree, revision)
	if errors.Is(err, gitrepo.ErrNoRevision) || errors.Is(err, ErrProblems) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return s.Repo.People, nil
}

func (h *history) Was(person, attribute string) (string, bool) {
	if h.before == nil {
		return "", true
	}
	at, ok := h.ids[0][person]
	if !ok {
		return "", false
	}
	return h.before.Get(at, attribute), true
}

func (h *history) Is(person, attribute string) string {
	if at, ok := h.ids[1][person]; ok && h.after != nil {
		return h.after.Get(at, attribute)
	}
	return ""
}

func (h *history) Attributes() []string {
	if h.after == nil {
		return nil
	}
	return h.after.Attributes()
}

// rulesOf reads the files of a revision without its people; nil where they do not pass.
func rulesOf(ctx context.Context, tree *source.Tree, revision string) *desired.Repo {
	from, err := os.MkdirTemp("", "pravet-revision-")
	if err != nil {
		return nil
	}
	defer os.RemoveAll(from)
	if gitrepo.Files(ctx, tree.Dir, revision, from) != nil {
		return nil
	}
	was, err := source.OpenTree(from, nil)
	if err != nil {
		return nil
	}
	defer was.Close()
	was.Environment = tree.Environment
	repo := desired.Rules(ctx, was)
	if repo.Problems.Errors() > 0 {
		return nil
	}
	return repo
}

// gives is where a kit gives a thing of an application, "" for nowhere.
func gives(repo *desired.Repo, k *model.Kit, app string, thing *plan.Thing) (file string, line int) {
	a := repo.App(app)
	if a < 0 {
		return "", 0
	}
	for i := range k.Gives {
		g := &k.Gives[i]
		if g.App != a {
			continue
		}
		for n, t := range g.Things {
			if x := &repo.Apps[a].Things[t]; x.Kind == thing.Kind && x.Name == thing.Name && n < len(g.Pos) {
				return g.Pos[n].File, g.Pos[n].Line
			}
		}
	}
	return "", 0
}

func (h *history) Gives(kit, app string, thing *plan.Thing) (string, int) {
	if h.kits.now == nil {
		return "", 0
	}
	repo := h.kits.now()
	for _, k := range repo.Kits {
		if k.Name == kit {
			return gives(repo, k, app, thing)
		}
	}
	return "", 0
}

func (h *history) Gave(app string, thing *plan.Thing) (string, int) {
	if h.kits.then == nil {
		return "", 0
	}
	then, now := h.kits.then(), h.kits.now()
	if then == nil {
		return "", 0
	}
	for _, was := range then.Kits {
		if file, _ := gives(then, was, app, thing); file == "" {
			continue
		}
		for _, is := range now.Kits {
			if is.Name != was.Name {
				continue
			}
			if file, _ := gives(now, is, app, thing); file != "" {
				continue
			}
			a := now.App(app)
			for i := range is.Gives {
				if is.Gives[i].App == a && len(is.Gives[i].Pos) > 0 {
					return is.Gives[i].Pos[0].File, is.Gives[i].Pos[0].Line
				}
			}
			return is.Pos.File, is.Pos.Line
		}
	}
	return "", 0
}

// mostSingle is how many lines of large files are asked for one by one: Git reads the history of the file for each.
const mostSingle = 64

func (h *history) Edited(file string, line int) (*outline.Edit, bool) {
	lines, ok := h.lines[file]
	if !ok {
		lines = gitrepo.Lines(h.dir, "", file)
		h.lines[file] = lines
	}
	c, ok := lines[line]
	if !ok && len(lines) < mostSingle && h.single < mostSingle {
		h.single++
		if c, ok = gitrepo.Lines(h.dir, "", file, line)[line]; ok {
			lines[line] = c
		}
	}
	switch {
	case !ok, c.Beyond:
		return nil, false
	case c.By == "":
		return &outline.Edit{}, true
	case h.since != nil && !h.since[c.Commit]:
		return nil, true
	}
	return &outline.Edit{By: c.By, On: h.zone.Day(c.On).String(), Commit: c.Commit, Subject: c.Subject}, true
}
