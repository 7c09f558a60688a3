package desired

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/edit"
	"pravet/internal/form"
	"pravet/internal/source"
)

var (
	standingForm = &form.Object{
		Name: standingFile, Doc: "Decisions that stand",
		Keys: []form.Key{
			{Name: "rejections", Is: form.ListOf(0, form.In(rejectionForm)), Doc: "Differences that stay"},
			{Name: "lifted", Is: form.ListOf(0, form.In(liftedForm)), Doc: "Guards that are taken away until a day"},
			{
				Name: "exceptions", Is: form.ListOf(0, form.In(exceptionForm)),
				Doc: "Who may hold what a separation keeps apart",
			},
			{
				Name: "kept", Is: form.ListOf(0, form.In(keptForm)),
				Doc: "Whom and what nothing happens to that cannot be undone",
			},
		},
	}
	rejectionForm = &form.Object{
		Name: "a rejection", Doc: "A difference that stays",
		Keys: []form.Key{
			{Name: "change", Is: form.Text("the id of a change"), Need: true, Doc: "Which"},
			{Name: "what", Is: form.Text(""), Doc: "What the change would do, for people to read"},
			untilKey, becauseKey, byKey,
		},
	}
	liftedForm = &form.Object{
		Name: "a lifted guard", Doc: "A guard that is taken away until a day",
		Keys: []form.Key{
			{Name: "guard", Is: form.OneOf(guard.Names(guard.ForPlan)...), Need: true, Doc: "Which; see guards.md"},
			{Name: "app", Is: form.Text("an application's id"), Doc: "Only there"},
			untilNeeded("a guard is not lifted for ever"), becauseKey, byKey,
		},
	}
	exceptionForm = &form.Object{
		Name: "an exception", Doc: "Who may hold what a separation keeps apart",
		Keys: []form.Key{
			{Name: "separation", Is: form.Text("a separation's name"), Need: true, Doc: "Which, as pravet.yaml names it"},
			{Name: "person", Is: form.Text("the id of a person"), Need: true, Doc: "Who"},
			untilNeeded("an exception does not last for ever"), becauseKey, byKey,
		},
	}
	keptForm = &form.Object{
		Name: "an entry of kept", Doc: "Nothing happens to these that cannot be undone",
		Keys: []form.Key{
			{Name: "person", Is: form.Text("the id of a person"), Doc: "Whose accounts"},
			{Name: "account", Is: form.Text("an address, APPLICATION/account/NAME"), Doc: "Which account"},
			{Name: "for", Is: form.Simple(form.Filter), Doc: "Whose accounts, as a filter over people"},
			untilKey, becauseKey, byKey,
		},
		Some: []form.Choice{{
			Keys: []string{"person", "account", "for"}, Just: true,
			Says: "an entry takes one of person, account and for", Hint: "add person: ID",
		}},
	}
)

const standingFile = "standing.yaml"

// untilNeeded is a last day that has to be there.
func untilNeeded(lacks string) form.Key {
	k := untilKey
	k.Need, k.Lacks, k.Add = true, lacks, "until: YYYY-MM-DD"
	return k
}

// readStanding reads the decisions that stand. The file may be missing.
func (r *Repo) readStanding() {
	if there, err := r.Tree.Exists(standingFile); err == nil && !there {
		return
	}
	d, root := r.open(standingFile)
	if root == nil {
		return
	}
	f := d.object(root, standingForm)
	for _, n := range f.list("rejections") {
		x := d.object(n, rejectionForm)
		rej := decide.Rejection{Change: x.text("change"), Until: x.date("until"),
			Because: x.text("because"), By: x.text("by")}
		if rej.By == "" {
			rej.By = standingFile
		}
		r.Rejections = append(r.Rejections, rej)
	}
	for _, n := range f.list("lifted") {
		x := d.object(n, liftedForm)
		l := decide.Lift{
			Guard:   x.word("guard"),
			App:     x.text("app"),
			Until:   x.date("until"),
			Because: x.text("because"),
			By:      x.text("by"),
		}
		if l.App != "" && r.App(l.App) < 0 {
			r.noApplication(x.pos("app"), l.App)
		}
		r.Lifts = append(r.Lifts, l)
	}
	r.readExceptions(f)
	r.readKept(f)
}

// readExceptions reads who may hold what a separation keeps apart.
func (r *Repo) readExceptions(of values) {
	d := of.d
	var names []string
	for i := range r.Separations {
		names = append(names, r.Separations[i].Name)
	}
	for _, n := range of.list("exceptions") {
		f := d.object(n, exceptionForm)
		x := model.Exception{
			Separation: f.text("separation"),
			Person:     f.text("person"),
			Until:      f.date("until"),
			Because:    f.text("because"),
			Pos:        d.pos(n),
		}
		if x.Separation != "" && !slices.Contains(names, x.Separation) {
			d.problem(
				f.node("separation"),
				"unknown-separation",
				fmt.Sprintf("there is no separation %q", x.Separation),
				didYouMean(x.Separation, names, "there are "),
			)
		}
		r.refer(f, "person")
		r.Exceptions = append(r.Exceptions, x)
	}
}

// Standing reads the rejections and the lifted guards of standing.yaml as they are
// now; the repository itself stays as it was read.
func (r *Repo) Standing(ctx context.Context) ([]decide.Rejection, []decide.Lift, error) {
	now := &Repo{
		Dir:         r.Dir,
		Tree:        r.Tree,
		ctx:         ctx,
		Problems:    &source.Problems{},
		Apps:        r.Apps,
		Separations: r.Separations,
		sums:        map[string]string{},
	}
	now.readStanding()
	for _, p := range now.Problems.Sorted() {
		if p.Severity == source.Error {
			return nil, nil, p
		}
	}
	return now.Rejections, now.Lifts, nil
}

// StandingWith prepares the adding of rejections to standing.yaml, and returns
// what writes the file. Nobody else may write it in between.
func (r *Repo) StandingWith(ctx context.Context, add []StandingRejection) (write func() error, err error) {
	there, err := r.Tree.Exists(standingFile)
	if err != nil {
		return nil, err
	}
	var data []byte
	if there {
		if data, _, _, err = r.Tree.ReadAll(ctx, standingFile, maxYAML); err != nil {
			return nil, err
		}
	}
	text, err := AddRejections(data, add)
	if err != nil {
		return nil, err
	}
	return func() error {
		if err := r.Tree.Sweep(standingFile); err != nil { // what was left by a reject that was killed
			return err
		}
		return r.Tree.Write(standingFile, 0o644, func(w io.Writer) error { _, err := w.Write(text); return err })
	}, nil
}

// A StandingRejection is what StandingWith adds.
type StandingRejection struct {
	Change, What, Because, By string
	Until                     day.Day
}

// AddRejections returns the text of standing.yaml with rejections added at
// the end of its list. Everything else stays as it is, byte for byte. data may
// be empty, for a file that does not exist yet.
func AddRejections(data []byte, add []StandingRejection) ([]byte, error) {
	before, err := rejections(data)
	if err != nil {
		return nil, err
	}
	if len(add) == 0 {
		return data, nil
	}
	lineEnd := "\n"
	if bytes.Contains(data, []byte("\r\n")) {
		lineEnd = "\r\n"
	}
	out, err := insert(data, before, add, lineEnd)
	if err != nil {
		return nil, err
	}
	after, err := rejections(out)
	if err != nil || after == nil || len(after.Content) != len(add)+length(before) {
		return nil, fmt.Errorf(
			"%s is written in a way that cannot be added to without changing it; add the rejection by hand",
			standingFile,
		)
	}
	return out, nil
}

func length(n *yaml.Node) int {
	if n == nil {
		return 0
	}
	return len(n.Content)
}

// rejections finds the value of the key rejections, nil where there is none.
func rejections(data []byte) (*yaml.Node, error) {
	probs := &source.Problems{}
	d := &doc{file: standingFile, probs: probs}
	root := d.parse(data)
	if all := probs.Sorted(); len(all) > 0 {
		return nil, all[0]
	}
	if root == nil {
		return nil, nil
	}
	for _, e := range d.entries(root, standingFile) {
		if e.name == "rejections" {
			return e.value, nil
		}
	}
	return nil, nil
}

func insert(data []byte, list *yaml.Node, add []StandingRejection, end string) ([]byte, error) {
	lines := strings.SplitAfter(string(data), "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	if n := len(lines); n > 0 && !strings.HasSuffix(lines[n-1], "\n") {
		lines[n-1] += end
	}
	switch {
	case list == nil:
		text := "rejections:" + end + items(add, 2, end)
		if len(lines) > 0 {
			text = end + text
		}
		return []byte(strings.Join(lines, "") + text), nil
	case list.Kind == yaml.SequenceNode && len(list.Content) == 0 && list.Style&yaml.FlowStyle != 0:
		// "rejections: []": the brackets give way to the first entries.
		line := lines[list.Line-1]
		at := strings.Index(line, "[")
		shut := strings.Index(line, "]")
		if at < 0 || shut < at {
			break
		}
		lines[list.Line-1] = strings.TrimRight(line[:at], " ") + strings.TrimRight(line[shut+1:], "\r\n") + end
		return []byte(strings.Join(slices.Insert(lines, list.Line, items(add, 2, end)), "")), nil
	case list.Tag == "!!null" && list.Line >= 1:
		return []byte(strings.Join(slices.Insert(lines, list.Line, items(add, 2, end)), "")), nil
	case list.Kind == yaml.SequenceNode && len(list.Content) > 0 && list.Style&yaml.FlowStyle == 0:
		dash := list.Column - 1
		last := list.Content[len(list.Content)-1].Line // its first key stands in the dash's line
		for last < len(lines) {
			text := strings.TrimRight(lines[last], "\r\n")
			indent := len(text) - len(strings.TrimLeft(text, " "))
			if strings.TrimSpace(text) != "" && indent <= dash {
				break
			}
			last++
		}
		for last > 0 {
			text := strings.TrimSpace(lines[last-1])
			if text != "" && !strings.HasPrefix(text, "#") {
				break
			}
			last--
		}
		return []byte(strings.Join(slices.Insert(lines, last, items(add, dash, end)), "")), nil
	}
	return nil, fmt.Errorf(
		"%s: the list of rejections is written on one line; write it one entry a line, or add the rejection by hand",
		model.Pos{File: standingFile, Line: list.Line},
	)
}

func items(add []StandingRejection, indent int, end string) string {
	var b strings.Builder
	pad := strings.Repeat(" ", indent)
	for _, r := range add {
		fmt.Fprintf(&b, "%s- change: %s%s", pad, edit.Scalar(r.Change), end)
		for _, f := range [][2]string{
			{"what", r.What}, {"until", r.Until.String()}, {"because", r.Because}, {"by", r.By},
		} {
			switch {
			case f[1] == "":
			case f[0] == "until":
				fmt.Fprintf(&b, "%s  until: %s%s", pad, f[1], end)
			default:
				fmt.Fprintf(&b, "%s  %s: %s%s", pad, f[0], edit.Scalar(f[1]), end)
			}
		}
	}
	return b.String()
}

// readKept reads whom and what nothing happens to that cannot be undone.
func (r *Repo) readKept(of values) {
	d := of.d
	for _, n := range of.list("kept") {
		f := d.object(n, keptForm)
		k := model.Kept{
			Person:  f.text("person"),
			Until:   f.date("until"),
			Because: f.text("because"),
			Pos:     d.pos(n),
		}
		r.refer(f, "person")
		if x := f.node("account"); x != nil {
			address, err := model.ParseAddress(d.text(x, "account"))
			switch {
			case err != nil || address.Kind != "account":
				d.problem(x, "bad-address", "an account is expected here", "write APPLICATION/account/NAME")
			case r.App(address.App) < 0:
				r.noApplication(d.pos(x), address.App)
			default:
				k.App, k.Account = address.App, address.Name
			}
		}
		if x := f.node("for"); x != nil {
			k.For = f.filter("for")
			r.use(d, x, k.For, "kept")
		}
		r.Kept = append(r.Kept, k)
	}
}
