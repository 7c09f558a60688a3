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
	"pravet/internal/source"
)

const standingFile = "standing.yaml"

// readStanding reads the decisions that stand. The file may be missing.
func (r *Repo) readStanding() {
	if there, err := r.Tree.Exists(standingFile); err == nil && !there {
		return
	}
	d, root := r.open(standingFile)
	if root == nil {
		return
	}
	f := d.fields(root, standingFile, "rejections", "lifted", "exceptions", "kept")
	for _, n := range d.list(f["rejections"], "rejections") {
		x := d.fields(n, "a rejection", "change", "what", "until", "because", "by")
		rej := decide.Rejection{Change: d.required(x, n, "change", "a rejection"), Until: d.date(x["until"], "until"),
			Because: d.required(x, n, "because", "a rejection"), By: d.text(x["by"], "by")}
		if rej.By == "" {
			rej.By = standingFile
		}
		r.Rejections = append(r.Rejections, rej)
	}
	for _, n := range d.list(f["lifted"], "lifted") {
		x := d.fields(n, "a lifted guard", "guard", "app", "until", "because", "by")
		l := decide.Lift{
			Guard:   d.oneOf(orNode(x["guard"], n), "guard", guard.Names(guard.ForPlan)...),
			App:     d.text(x["app"], "app"),
			Until:   d.date(x["until"], "until"),
			Because: d.required(x, n, "because", "a lifted guard"),
			By:      d.text(x["by"], "by"),
		}
		if l.Until == day.None && x["until"] == nil {
			d.problem(n, "missing-key", "a guard is not lifted for ever", "add until: YYYY-MM-DD")
		}
		if l.App != "" && r.App(l.App) < 0 {
			r.noApplication(d.pos(x["app"]), l.App)
		}
		r.Lifts = append(r.Lifts, l)
	}
	r.readExceptions(d, f["exceptions"])
	r.readKept(d, f["kept"])
}

// readExceptions reads who may hold what a separation keeps apart.
func (r *Repo) readExceptions(d *doc, list *yaml.Node) {
	var names []string
	for i := range r.Separations {
		names = append(names, r.Separations[i].Name)
	}
	for _, n := range d.list(list, "exceptions") {
		f := d.fields(n, "an exception", "separation", "person", "until", "because", "by")
		x := model.Exception{
			Separation: d.required(f, n, "separation", "an exception"),
			Person:     d.required(f, n, "person", "an exception"),
			Until:      d.date(f["until"], "until"),
			Because:    d.required(f, n, "because", "an exception"),
			Pos:        d.pos(n),
		}
		if f["until"] == nil {
			d.problem(n, "missing-key", "an exception does not last for ever", "add until: YYYY-MM-DD")
		}
		if x.Separation != "" && !slices.Contains(names, x.Separation) {
			d.problem(
				f["separation"],
				"unknown-separation",
				fmt.Sprintf("there is no separation %q", x.Separation),
				didYouMean(x.Separation, names, "there are "),
			)
		}
		if x.Person != "" {
			r.refs = append(r.refs, personRef{x.Person, d.pos(f["person"])})
		}
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
		s, err := r.Tree.Stage(standingFile, 0o644, func(w io.Writer) error { _, err := w.Write(text); return err })
		if err != nil {
			return err
		}
		if err := s.Commit(); err != nil {
			s.Drop()
			return err
		}
		return nil
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
func (r *Repo) readKept(d *doc, list *yaml.Node) {
	for _, n := range d.list(list, "kept") {
		f := d.fields(n, "an entry of kept", "person", "account", "for", "until", "because", "by")
		k := model.Kept{
			Person:  d.text(f["person"], "person"),
			Until:   d.date(f["until"], "until"),
			Because: d.required(f, n, "because", "an entry of kept"),
			Pos:     d.pos(n),
		}
		given := 0
		for _, key := range []string{"person", "account", "for"} {
			if f[key] != nil {
				given++
			}
		}
		if given != 1 {
			d.problem(n, "missing-key", "an entry names one of person, account and for", "add person: ID")
		}
		if k.Person != "" {
			r.refs = append(r.refs, personRef{k.Person, d.pos(f["person"])})
		}
		if x := f["account"]; x != nil {
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
		if x := f["for"]; x != nil {
			k.For = d.filter(x, "for")
			r.use(d, x, k.For, "kept")
		}
		r.Kept = append(r.Kept, k)
	}
}
