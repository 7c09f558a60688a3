// Package desired reads a desired-state repository: who works here, which
// applications there are, and who should have what in each. All problems of
// all files are gathered, each with its place and what to do about it.
//
// Rules reads the small files, so that exports can be read while ReadPeople reads
// the people, who may be many.
package desired

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"

	"pravet/internal/connect"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

// Root is the file that makes a folder a repository.
const Root = "pravet.yaml"

// A Repo is a desired state.
type Repo struct {
	Dir            string
	Tree           *source.Tree
	Organization   string
	Zone           day.Zone // by whose days everything goes
	Timezone       string   // its name, "" where the files name none
	Guards         model.Guards
	Separations    []model.Separation
	Exceptions     []model.Exception
	Apps           []*model.App    // by id
	Connects       []*connect.Spec // how each application is reached
	Exports        []*export.Spec
	Kits           []*model.Kit  // by name
	Paths          []*model.Path // by rank
	Kept           []model.Kept
	Outsiders      *model.Outsiders // nil where there are none
	People         *model.People
	Rejections     []decide.Rejection
	Lifts          []decide.Lift
	FirstPasswords *FirstPasswords // nil where nobody gets one
	Letters        *Letters        // nil where nobody is told anything
	Record         *Record         // the database that the record is in; nil for a file of the repository
	Signing        *Signing        // by what decisions are proved; nil for by nothing
	Deciders       []decide.Rule   // who decides about which changes; none for anybody
	Unattended     *filter.Filter  // over changes: which may be carried out with nobody there; nil for none
	Acceptances    day.Duration    // how long an acceptance counts for the same change in another plan
	Problems       *source.Problems
	Files          int

	Sources []*Source
	Fields  []model.Field // of the organization's own; nil where any may be

	Environments []string              // that applications have, sorted
	absent       map[string]bool       // applications that are not in the environment
	local        map[*model.App]values // what they say of the environment
	seats        []envSeats            // what environments say of seats
	promoted     []*model.Promotion

	fieldsSaid  bool
	peopleFiles []string
	ctx         context.Context         // of the reading
	rosters     map[string]*roster      // files of people that others write
	unreadApps  bool                    // a file of an application could not be read
	sums        map[string]string       // file → digest
	uses        []use                   // filters, to check their attributes once people are known
	refs        []personRef             // people named in files
	odd         map[*filter.Filter]bool // filters with an attribute that nobody has
	only        []string                // words that people must hold to be read
	whole       bool                    // the people have been read
	deciding    []func()                // looks up what deciders name, once all is read
	remembered  *sync.Map               // by name; see Remembers
	of          *Repo                   // of which it is a part; see Only
}

type use struct {
	f       *filter.Filter
	at      func(column int) model.Pos
	subject string
}

type personRef struct {
	id  string
	pos model.Pos
}

// Find looks for the repository that a folder is in: the nearest folder
// upwards that holds a pravet.yaml.
func Find(dir string) (string, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for at := abs; ; at = filepath.Dir(at) {
		if info, err := os.Stat(filepath.Join(at, Root)); err == nil && !info.IsDir() {
			return at, nil
		}
		if at == filepath.Dir(at) {
			return "", fmt.Errorf(
				"there is no %s in %s or in a folder above it; go to a repository, name one with --repo, or "+
					"start one with: pravet new DIR",
				Root,
				abs,
			)
		}
	}
}

// Rules reads everything but the people: pravet.yaml, applications, kits and
// standing decisions.
func Rules(ctx context.Context, tree *source.Tree) *Repo {
	r := &Repo{
		Dir:        tree.Dir,
		Tree:       tree,
		ctx:        ctx,
		Problems:   &source.Problems{},
		People:     model.NewPeople(),
		sums:       map[string]string{},
		odd:        map[*filter.Filter]bool{},
		remembered: &sync.Map{},
	}
	separations := r.readRoot()
	r.readApps()
	r.checkFirstPasswords()
	r.readKits()
	r.readPaths()
	r.resolveSeparations(separations)
	for _, check := range r.deciding {
		check()
	}
	r.readStanding()
	return r
}

func newProblems() *source.Problems { return &source.Problems{} }

// fail notes an error at a place.
func (r *Repo) fail(pos model.Pos, rule, says, hint string) {
	r.Problems.Add(source.NewProblem(pos, rule, says, hint))
}

// warn notes what may be a mistake.
func (r *Repo) warn(pos model.Pos, rule, says, hint string) {
	p := source.NewProblem(pos, rule, says, hint)
	p.Severity = source.Warning
	r.Problems.Add(p)
}

// Warn notes a warning at a place.
func (r *Repo) Warn(pos model.Pos, rule, says, hint string) { r.warn(pos, rule, says, hint) }

// list lists the files of a folder; one that cannot be read is a problem.
func (r *Repo) list(folder string, endings ...string) []string {
	files, others, err := listFiles(r.Tree, folder, endings...)
	var p *source.Problem
	if errors.As(err, &p) {
		r.Problems.Add(p)
	} else if err != nil {
		r.Problems.Add(source.Unreadable(folder, err))
	}
	for _, o := range others {
		r.warn(
			model.Pos{File: o},
			"not-read",
			"this is not read",
			"files of "+folder+" end in "+strings.Join(endings, " or ")+" and stand in the folder itself",
		)
	}
	return files
}

// Digest identifies the desired state: SHA-256 over the name and the digest of
// every file, in the order of names. Of standing.yaml only the lifted guards
// and the exceptions count: a rejection changes what is carried out, not what is
// desired.
func (r *Repo) Digest() string {
	h := sha256.New()
	var files []string
	for f := range r.sums {
		files = append(files, f)
	}
	sort.Strings(files)
	for _, f := range files {
		if f == standingFile {
			if len(r.Lifts) == 0 && len(r.Exceptions) == 0 && len(r.Kept) == 0 {
				continue // as if there were none
			}
			counts, err := json.Marshal(r.Lifts)
			if err == nil && len(r.Exceptions) > 0 {
				var more []byte
				more, err = json.Marshal(r.Exceptions)
				counts = append(counts, more...)
			}
			for _, k := range r.Kept {
				counts = fmt.Appendf(counts, "%s %s/%s %v %s", k.Person, k.App, k.Account, k.For, k.Until)
			}
			if err != nil {
				panic(err) // plain values always marshal
			}
			fmt.Fprintf(h, "%s\n%s\n", f, counts)
			continue
		}
		fmt.Fprintf(h, "%s\n%s\n", f, r.sums[f])
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil))
}

// App returns the number of an application, or -1.
func (r *Repo) App(id string) int {
	for i, a := range r.Apps {
		if a.ID == id {
			return i
		}
	}
	return -1
}

// AppIDs lists the ids of the applications.
func (r *Repo) AppIDs() []string {
	var out []string
	for _, a := range r.Apps {
		out = append(out, a.ID)
	}
	return out
}

// Remembers keeps something that others have worked out of a repository, by a name, for as long as the repository is at hand.
func (r *Repo) Remembers(name string, make func() any) any {
	if r.remembered == nil {
		return make()
	}
	if x, ok := r.remembered.Load(name); ok {
		return x
	}
	x, _ := r.remembered.LoadOrStore(name, make())
	return x
}
