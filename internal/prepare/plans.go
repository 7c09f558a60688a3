// The plans of a repository are kept here: files in its folder plans, each
// named by the id of the plan in it, and registered in the ledger with its
// digest. Only a registered plan is decided about or carried out.

package prepare

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/source"
)

// PlanFolder is where plans are kept in a repository.
const PlanFolder = "plans"

// MaxPlan is how large a plan's file may be, in bytes: a million changes take less.
const MaxPlan = 2 << 30

// fileName is how a plan's file is named: by its id.
var fileName = regexp.MustCompile(`^([a-z2-9]{8})\.json$`)

// NoPlan is an error in the name of a plan: it is that of none, or of several.
type NoPlan struct{ Says string }

func (n *NoPlan) Error() string { return n.Says }

func noPlan(format string, args ...any) error { return &NoPlan{fmt.Sprintf(format, args...)} }

// WritePlan writes a plan's bytes to its place in a repository and returns how the
// file is spoken of. Nobody else may read it.
func WritePlan(l ledger.Ledger, dir string, p *plan.Plan, data io.WriterTo) (file string, err error) {
	file = PlanFolder + "/" + p.ID + ".json"
	err = l.Exclusive(func() error {
		if err := source.Folder(filepath.Join(dir, PlanFolder), PlanFolder); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Join(dir, PlanFolder), 0o700); err != nil {
			return fmt.Errorf("the plan cannot be written: %w", err)
		}
		// What drafts that were killed have left.
		left, err := filepath.Glob(filepath.Join(dir, PlanFolder, ".*.json.*.new"))
		for _, f := range left {
			err = errors.Join(err, os.Remove(f))
		}
		return errors.Join(err, source.WriteFile(filepath.Join(dir, file), data, 0o600))
	})
	return file, err
}

// FindPlan finds a plan's file by the plan's id, or the beginning of it, or by a
// path, which is taken from the folder at. dir is the repository, "" outside of
// any. A name that finds none, or several, is a NoPlan.
func FindPlan(dir, at, name string) (string, error) {
	switch {
	case name == "":
		return "", noPlan("this is not the name of a plan: it is empty")
	case strings.ContainsAny(name, "*?[]\\\n"):
		return "", noPlan("this is not the name of a plan: %q; write a plan's id, the beginning of one, or a file", name)
	case strings.ContainsAny(name, "/."):
		return absolutePath(at, name), nil
	}
	var found []string
	if dir != "" {
		if err := source.Folder(filepath.Join(dir, PlanFolder), PlanFolder); err != nil {
			return "", err
		}
		entries, err := os.ReadDir(filepath.Join(dir, PlanFolder))
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return "", err
		}
		for _, e := range entries {
			if fileName.MatchString(e.Name()) && strings.HasPrefix(e.Name(), name) {
				found = append(found, filepath.Join(dir, PlanFolder, e.Name()))
			}
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		if _, err := os.Stat(absolutePath(at, name)); err == nil {
			return absolutePath(at, name), nil
		}
		return "", noPlan("there is no plan %q in plans/; list the plans with: pravet log --kind plan", name)
	}
	return "", noPlan("%d plans begin with %q; write more of the id", len(found), name)
}

func absolutePath(at, name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(at, name)
}

// PlanFiles lists the plans' files of a repository.
func PlanFiles(dir string) (out []string) {
	entries, err := os.ReadDir(filepath.Join(dir, PlanFolder))
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if fileName.MatchString(e.Name()) {
			out = append(out, filepath.Join(dir, PlanFolder, e.Name()))
		}
	}
	return out
}

// LoadPlan reads the plan of a repository with an id.
func LoadPlan(dir, id string) (*plan.Plan, error) {
	return ReadPlan(filepath.Join(dir, PlanFolder, id+".json"), PlanFolder+"/"+id+".json")
}

// ReadPlan reads a plan's file, which messages call name. One in the folder of plans
// is refused when it has another plan's name.
func ReadPlan(file, name string) (*plan.Plan, error) {
	data, err := source.ReadFile(file, name, MaxPlan)
	if err != nil {
		return nil, err
	}
	p, err := plan.Read(data)
	switch {
	case errors.Is(err, plan.ErrNewer):
		return nil, fmt.Errorf("%s: %w; use a newer Pravet", name, err)
	case errors.Is(err, plan.ErrChanged), errors.Is(err, plan.ErrOlder):
		return nil, fmt.Errorf("%s: %w; draft it again", name, err)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	m := fileName.FindStringSubmatch(filepath.Base(file))
	if m != nil && m[1] != p.ID && filepath.Base(filepath.Dir(file)) == PlanFolder {
		return nil, fmt.Errorf("%s: the plan in it is %s; a plan's file has its name", name, p.ID)
	}
	return p, nil
}

// Registered reports whether a plan was drafted, or registered, in the
// repository of a ledger: with this id and this digest.
func Registered(l ledger.Ledger, p *plan.Plan) (bool, error) {
	found := false
	err := l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}, Plan: p.ID, Newest: true},
		func(e *ledger.Entry) error {
			drafted, err := ledger.Decode[ledger.Plan](e)
			if err == nil && drafted.Plan == p.ID && drafted.Digest == p.Digest {
				found, err = true, ledger.ErrStop
			}
			return err
		},
	)
	return found, err
}

// Register registers a plan that was drafted elsewhere: it is drafted anew from
// the files and the exports as they are here, and must come out the same. When an
// export was taken is the one thing that may differ, where it has no time of its
// own.
func Register(ctx context.Context, l ledger.Ledger, s *State, p *plan.Plan, file string, clock day.Day) error {
	fail := func(err error) error {
		return fmt.Errorf(
			"plan %s was not drafted in this repository, so it is drafted anew here and compared; that failed, "+
				"and nothing was changed: %w",
			p.ID,
			err,
		)
	}
	today, err := day.Parse(p.AsOf)
	if err != nil {
		return fail(err)
	}
	var apps []string
	var only *filter.Filter
	if p.Selection != nil {
		apps = p.Selection.Apps
		if p.Selection.Only != "" {
			if only, err = filter.OfPeople(p.Selection.Only); err != nil {
				return fail(err)
			}
		}
	}
	if s.Repo.Organization != p.Organization {
		return fmt.Errorf("the plan is for %q, and this repository is for %q", p.Organization, s.Repo.Organization)
	}
	if err := s.Read(ctx, apps); err != nil {
		return fail(err)
	}
	ours, err := Draft(s, l, today, clock, only)
	if err != nil {
		return fail(err)
	}
	for i := range ours.Exports {
		if i < len(p.Exports) && ours.Exports[i].App == p.Exports[i].App &&
			ours.Exports[i].Digest == p.Exports[i].Digest {
			ours.Exports[i].TakenAt = p.Exports[i].TakenAt
		}
	}
	data, err := ours.Seal()
	if err != nil {
		return fail(err)
	}
	if ours.Digest != p.Digest {
		return fmt.Errorf(
			"plan %s was not drafted in this repository, and what is drafted here from the same day differs from "+
				"it: %s; nothing was changed. Draft your own plan, and decide about that",
			p.ID, strings.Join(differs(s, p, ours), "; "),
		)
	}
	if l.Shared() {
		if err := KeepPlan(l, p, data); err != nil {
			return err
		}
	}
	return Record(l, s, p, file, clock)
}

// differs tells why a plan that was drafted elsewhere is not the one that is drafted here.
func differs(s *State, theirs, ours *plan.Plan) (says []string) {
	if theirs.Desired.Digest != ours.Desired.Digest {
		what := "the files of the desired state are not the same"
		if rev := theirs.Desired.Revision; rev != "" {
			if files := gitrepo.Changed(s.Repo.Dir, rev); len(files) > 0 {
				what += " (" + strings.Join(files[:min(len(files), 3)], ", ") + ")"
			}
			what += fmt.Sprintf(", the plan is of commit %.10s", rev)
		}
		says = append(says, what)
	}
	marks := map[string]string{}
	for _, e := range ours.Exports {
		marks[e.App] = e.Digest
	}
	for _, e := range theirs.Exports {
		if marks[e.App] != e.Digest {
			says = append(says, "the exported state of "+e.App+" is not the same")
		}
	}
	if len(says) > 0 {
		return says
	}
	for _, x := range []struct {
		in, not *plan.Plan
		where   string
	}{{theirs, ours, "here it is not due"}, {ours, theirs, "there it is not due"}} {
		known := map[string]bool{}
		for i := range x.not.Changes {
			known[x.not.Changes[i].ID] = true
		}
		for i := range x.in.Changes {
			if c := &x.in.Changes[i]; !known[c.ID] {
				return append(says, fmt.Sprintf("%s: %s (what was decided, or what stands since when, is not the same)", words.Sentence(x.in, c), x.where))
			}
		}
	}
	here := map[string]*plan.Change{}
	for i := range ours.Changes {
		here[ours.Changes[i].ID] = &ours.Changes[i]
	}
	for i := range theirs.Changes {
		c := &theirs.Changes[i]
		if there, is := holding(c), holding(here[c.ID]); there != is {
			return append(says, fmt.Sprintf("what holds a change is not the same, there %s, here %s: %s", there, is, words.Sentence(theirs, c)))
		}
	}
	return append(says, "why its changes are due, or what is told of them, is not the same")
}

// holding are the guards that hold a change, in words.
func holding(c *plan.Change) string {
	var guards []string
	for _, h := range c.Holds {
		guards = append(guards, h.Guard)
	}
	slices.Sort(guards)
	return cmp.Or(strings.Join(slices.Compact(guards), ", "), "nothing")
}

// keptAs is under what a record keeps a plan.
func keptAs(digest string) string { return "plan/" + digest }

// KeepPlan keeps a plan in a record that others share, so that they can decide about it and carry it out.
func KeepPlan(l ledger.Ledger, p *plan.Plan, data io.WriterTo) error {
	if _, ok, err := l.Kept(keptAs(p.Digest)); err != nil || ok {
		return err
	}
	var pressed bytes.Buffer
	z, err := gzip.NewWriterLevel(&pressed, gzip.BestSpeed)
	if err == nil {
		_, err = data.WriteTo(z)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		return err
	}
	return l.Keep(ledger.Kept{Digest: keptAs(p.Digest), Data: pressed.Bytes()})
}

// KeptPlan finds a plan that was drafted, by its id, in a record that others share; nil where it is not kept there.
func KeptPlan(l ledger.Ledger, id string) (*plan.Plan, error) {
	data, digest, err := keptPlan(l, id)
	if err != nil || data == nil {
		return nil, err
	}
	p, err := plan.Read(data)
	if err == nil && p.Digest != digest {
		err = plan.ErrChanged
	}
	if err != nil {
		return nil, sayKeptPlan(id, err)
	}
	return p, nil
}

// PlanFile is the text of a plan by its id, from the folder of plans or from a record that others share; nil where it is not
// to be had.
func PlanFile(l ledger.Ledger, dir, id string) []byte {
	name := PlanFolder + "/" + id + ".json"
	if data, err := source.ReadFile(filepath.Join(dir, PlanFolder, id+".json"), name, MaxPlan); err == nil {
		return data
	}
	if !l.Shared() {
		return nil
	}
	data, _, err := keptPlan(l, id)
	if err != nil {
		return nil
	}
	return data
}

// keptPlan is the text of a plan in a record that others share, and the digest that it was drafted with; nil where it is not
// kept there.
func keptPlan(l ledger.Ledger, id string) (data []byte, digest string, err error) {
	var drafted ledger.Plan
	if ok, err := l.Last(ledger.PlanDrafted, id, &drafted); err != nil || !ok {
		return nil, "", err
	}
	k, ok, err := l.Kept(keptAs(drafted.Digest))
	if err != nil || !ok {
		return nil, "", err
	}
	z, err := gzip.NewReader(bytes.NewReader(k.Data))
	if err == nil {
		data, err = io.ReadAll(io.LimitReader(z, MaxPlan+1))
	}
	if err == nil && len(data) > MaxPlan {
		err = fmt.Errorf("it is longer than %d MB", MaxPlan>>20)
	}
	if err != nil {
		return nil, "", sayKeptPlan(id, err)
	}
	return data, drafted.Digest, nil
}

// sayKeptPlan is a plan that the record keeps otherwise than it was drafted.
func sayKeptPlan(id string, err error) error {
	return fmt.Errorf("what the record keeps of plan %s cannot be read: %w", id, err)
}
