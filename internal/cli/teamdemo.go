package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"pravet/examples/marrowick"
	"pravet/internal/show"
	"pravet/internal/standin"
)

// teamWalk is the tour of a team: two clones, a database where one is installed, and keys.
type teamWalk struct {
	tour
	root     string
	database bool
}

// Those who take part, by their ids.
const (
	farah  = "E0061" // a systems administrator, who drafts
	ole    = "E0062" // another, who decides about ticket sales
	leonie = "E0047" // owns crew rosters
)

// teamRules is what the team adds to pravet.yaml.
const teamRules = `
decisions: {signed: true, keys: keys/allowed_signers, notes: true}
deciders:
  - {changes: app eq "tickets", people: {kit: ticket-administrators}, not: [drafter, subject]}
  - {changes: app eq "rosters", people: {owner: true}}
`

// teamDemo walks through what several people and several machines do together.
func (c *program) teamDemo(dir string) (err error) {
	for program, from := range map[string]string{"git": "Git", "ssh-keygen": "OpenSSH's client"} {
		if _, err := exec.LookPath(program); err != nil {
			return sayDemoNeeds(program, from)
		}
	}
	w := &teamWalk{tour: tour{c: c, p: show.NewPrinter(c.Stdout, c.Environ), now: marrowick.Today}, root: dir}
	w.dir = filepath.Join(dir, "farah")
	if err := marrowick.Write(w.dir, true); err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "marrowick-servers-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	rules := teamRules
	database, err := startDatabase(c.ctx, folder, "CREATE ROLE pravet LOGIN PASSWORD 'made up'")
	var missing *standin.Missing
	switch {
	case errors.As(err, &missing):
		w.p.Line("Left out: " + err.Error() + "; the two go with Git alone.")
	case err != nil:
		return err
	default:
		defer func() { err = errors.Join(err, database.Stop()) }()
		w.database = true
		w.more = append(w.more, "LEDGER_PASSWORD=made up", "OWNER_PASSWORD="+database.Password)
		rules += fmt.Sprintf("ledger: {url: %s, user: pravet, password: env:LEDGER_PASSWORD}\n", database.URL)
	}
	if err := w.prepare(rules); err != nil {
		return err
	}
	return w.walk(database)
}

// prepare makes keys, commits the rules, and clones.
func (w *teamWalk) prepare(rules string) error {
	keys := filepath.Join(w.root, "keys")
	if err := errors.Join(os.Mkdir(keys, 0o700), os.Mkdir(filepath.Join(w.dir, "keys"), 0o755)); err != nil {
		return err
	}
	var allowed bytes.Buffer
	for _, id := range []string{farah, ole, leonie} {
		if _, err := w.other("", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", id, "-f", filepath.Join(keys, id)); err != nil {
			return err
		}
		public, err := os.ReadFile(filepath.Join(keys, id+".pub"))
		if err != nil {
			return err
		}
		fmt.Fprintf(&allowed, "%s %s", id, public)
	}
	file := filepath.Join(w.dir, "pravet.yaml")
	text, err := os.ReadFile(file)
	if err == nil {
		err = os.WriteFile(file, append(text, rules...), 0o644)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(w.dir, "keys", "allowed_signers"), allowed.Bytes(), 0o644)
	}
	if err != nil {
		return err
	}
	for _, args := range [][]string{
		{"-C", w.dir, "add", "."}, {"-C", w.dir, "commit", "--quiet", "-m", "Decisions are signed, and the files say who decides"},
		{"clone", "--quiet", w.dir, filepath.Join(w.root, "ole")},
		{"-C", filepath.Join(w.root, "ole"), "config", "user.name", "Ole Brandt"},
		{"-C", filepath.Join(w.root, "ole"), "config", "user.email", "ole.brandt@marrowick.example"},
	} {
		if _, err := w.other("", "git", args...); err != nil {
			return err
		}
	}
	// Git does not keep exports; each machine gets them from the applications.
	exports := filepath.Join(w.root, "ole", "exports")
	err = os.CopyFS(exports, os.DirFS(filepath.Join(w.dir, "exports")))
	files, globbed := filepath.Glob(filepath.Join(exports, "*"))
	err = errors.Join(err, globbed)
	for _, file := range files {
		err = errors.Join(err, os.Chtimes(file, marrowick.Exported, marrowick.Exported))
	}
	return err
}

// other runs another program.
func (w *teamWalk) other(dir, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(w.c.ctx, name, args...)
	cmd.Dir, cmd.Env = dir, w.c.Environ
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("the demo stops: %s %s: %w: %s", name, strings.Join(args, " "), err, out)
	}
	return string(out), nil
}

// shown shows a command that is no command of Pravet, and what it prints.
func (w *teamWalk) shell(says, command string) error {
	w.count++
	w.p.Line()
	w.p.Line(show.Strong(fmt.Sprintf("%d. %s", w.count, says)))
	w.p.Line()
	w.p.Line(show.Dim("$ " + command))
	out, err := w.other(w.dir, "sh", "-c", command)
	w.p.Text(out)
	return errors.Join(err, w.p.Err())
}

// as goes on in somebody's clone.
func (w *teamWalk) as(clone string) { w.dir = filepath.Join(w.root, clone) }

// signed are the arguments of a command that somebody signs.
func signed(id string, args ...string) []string {
	return slices.Concat(args, []string{"--key", "../keys/" + id})
}

func (w *teamWalk) walk(database *standin.Database) error {
	w.p.Line(show.Strong("Marrowick Ferries, Tuesday 24 November 2026, a team."), " Farah Linden and Ole Brandt each have a clone.")
	w.p.Line("Decisions are signed; about ticket sales an administrator decides who has not drafted the plan, and")
	w.p.Line("about crew rosters their owner, Leonie Marsh.")
	if w.database {
		w.p.Line("They have one record, in a PostgreSQL server.")
		err := w.run("Farah makes the record: a role that owns it, and one that may only add to it.", Done,
			"ledger", "grant", "--run", "--user", database.User, "--password", "env:OWNER_PASSWORD")
		if err != nil {
			return err
		}
	}
	if err := w.steps([]step{
		{"Are there enough who could decide?", []string{"check"}},
		{"Farah drafts the plan of the day.", []string{"draft"}},
		{"For whom does it wait?", []string{"list", "waiting"}},
	}); err != nil {
		return err
	}
	p, err := w.drafted()
	if err != nil {
		return err
	}
	id := p.ID
	if err := w.run("Farah cannot decide about ticket sales herself: she has drafted it.", Done,
		signed(farah, "accept", id, "--app", "tickets", "--because", "I drafted it")...); err != nil {
		return err
	}
	if w.database {
		err = w.together(id)
	} else {
		err = w.byFile(id)
	}
	if err != nil {
		return err
	}
	w.as("farah")
	if err := w.steps([]step{
		{"Who decided what? Each decision is signed.", []string{"log", "--kind", "decision"}},
		{"An auditor wants evidence.", []string{"report", "evidence", "--from", "2026-11-01", "--to", "2026-11-30", "--out", "../november.tar.gz"}},
	}); err != nil {
		return err
	}
	for _, program := range []string{"sqlite3", "sha256sum", "tar"} {
		if _, err := exec.LookPath(program); err != nil {
			w.p.Line("Left out: the auditor's own look at it, which needs " + program + ".")
			return w.p.Err()
		}
	}
	w.dir = w.root
	return w.shell("The auditor trusts nobody, and proves it with tools that are no part of Pravet.", "tar xzf november.tar.gz && sh evidence/verify.sh")
}

// together is how it goes on with one record: each in the clone that is at hand.
func (w *teamWalk) together(id string) error {
	w.as("ole")
	if err := w.run("Ole has not drafted anything; the plan is in the record, and he decides about ticket sales.", Done,
		signed(ole, "accept", id, "--app", "tickets", "--because", "reviewed with the desks")...); err != nil {
		return err
	}
	w.as("farah")
	if err := w.run("Leonie decides about crew rosters, at Farah's machine, with her own key.", Done,
		signed(leonie, "accept", id, "--app", "rosters", "--because", "as planned")...); err != nil {
		return err
	}
	if err := w.run("Farah's machine reaches ticket sales, and carries out what was decided there.", Held, "apply", id, "--app", "tickets"); err != nil {
		return err
	}
	w.as("ole")
	return w.run("Ole's machine reaches crew rosters: the same plan, the same record.", Held, "apply", id, "--app", "rosters")
}

// byFile is how it goes on with Git alone: plans and decisions travel as files.
func (w *teamWalk) byFile(id string) error {
	plan := filepath.Join("..", "farah", "plans", id+".json")
	w.as("ole")
	for _, x := range []struct{ who, app, because string }{{ole, "tickets", "reviewed with the desks"}, {leonie, "rosters", "as planned"}} {
		says := "Ole decides about ticket sales in his clone; the decision is a small file."
		if x.who == leonie {
			says = "Leonie decides about crew rosters, in the same way."
		}
		if err := w.run(says, Done, signed(x.who, "accept", plan, "--app", x.app, "--because", x.because, "--out", "../"+x.app+".txt")...); err != nil {
			return err
		}
	}
	w.as("farah")
	if err := w.run("Farah takes both: they are proved, and recorded once.", Done, "decisions", "take", "../tickets.txt", "../rosters.txt"); err != nil {
		return err
	}
	return w.run("She carries out what was decided, and nothing else.", Held, "apply", id)
}

// sayDemoNeeds is a program without which the demo of a team cannot go.
func sayDemoNeeds(program, from string) error {
	return fmt.Errorf("%s is needed for this demo; install %s", program, from)
}
