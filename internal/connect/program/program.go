// Package program reaches applications through a program of the user's own, by lines of JSON
// on its standard input and output. Every line that Pravet writes asks one thing, and has a
// number:
//
//	{"id":1,"ask":"about"}
//	{"id":2,"ask":"accounts"}                           all of them
//	{"id":3,"ask":"accounts","accounts":["ines.calder"]}
//	{"id":4,"ask":"change","verb":"suspend","account":"ines.calder"}
//
// The program answers with lines of the same number, the last of which ends the answer:
//
//	{"id":2,"record":{"account":"ines.calder","state":"open","groups":["bridge"]}}
//	{"id":2,"end":true}
//	{"id":4,"end":true,"refused":"the account is locked by payroll"}
//	{"id":4,"end":true,"again":"busy","after":1.5}
//
// A program that gives no answer in time is killed, and started again for what comes next.
package program

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"sync"
	"time"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plain"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// maxLine is how long a line may be, in bytes.
const maxLine = 8 << 20

// An ask is a line that the program reads.
type ask struct {
	ID         int               `json:"id"`
	Ask        string            `json:"ask"` // about, accounts or change
	Accounts   []string          `json:"accounts,omitempty"`
	Verb       string            `json:"verb,omitempty"`
	Account    string            `json:"account,omitempty"`
	Kind       string            `json:"kind,omitempty"` // of the thing: group, role or license
	Thing      string            `json:"thing,omitempty"`
	Attribute  string            `json:"attribute,omitempty"`
	Before     string            `json:"before,omitempty"`
	After      string            `json:"after,omitempty"`
	Attributes map[string]string `json:"attributes,omitempty"` // of an account that is created
	Blocked    bool              `json:"blocked,omitempty"`    // it is created blocked
	Password   string            `json:"password,omitempty"`   // its first, to be changed at the first sign-in
}

// An answer is a line that the program writes.
type answer struct {
	ID      int            `json:"id"`
	Record  *export.Record `json:"record"`
	End     bool           `json:"end"`
	Refused string         `json:"refused"`
	Again   string         `json:"again"`
	After   float64        `json:"after"` // seconds
	Can     []string       `json:"can"`   // verbs, in the answer to about
	Says    string         `json:"says"`
}

// driver talks to one program, about one thing at a time.
type driver struct {
	app  *model.App
	o    live.Options
	can  []string
	says string

	mu      sync.Mutex
	cmd     *exec.Cmd
	in      io.WriteCloser
	lines   chan line
	number  int
	stopped chan struct{}
}

type line struct {
	text []byte
	err  error
}

// Open starts the program and asks it about itself.
func Open(ctx context.Context, o live.Options) (live.Driver, error) {
	d := &driver{app: o.App, o: o}
	err := o.Ask(ctx, func(ctx context.Context) error {
		a, err := d.talk(ctx, ask{Ask: "about"}, nil)
		if err == nil {
			d.can, d.says = a.Can, a.Says
		}
		return err
	})
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// running starts the program, if it does not run.
func (d *driver) running() error {
	if d.cmd != nil {
		return nil
	}
	cmd := exec.Command(d.o.Spec.At[0], d.o.Spec.At[1:]...)
	cmd.Dir, cmd.Env, cmd.Stderr = d.o.Dir, d.o.Environ, &logger{take: d.o.Log}
	group(cmd)
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return &connect.Fault{Kind: connect.Failed, Says: "the program cannot be started: " + err.Error()}
	}
	lines, stopped := make(chan line), make(chan struct{})
	go func() {
		rd := bufio.NewScanner(out)
		rd.Buffer(make([]byte, 64<<10), maxLine)
		send := func(l line) bool {
			select {
			case lines <- l:
				return true
			case <-stopped:
				return false
			}
		}
		for rd.Scan() {
			if !send(line{text: append([]byte(nil), rd.Bytes()...)}) {
				return
			}
		}
		err := rd.Err()
		if err == nil {
			err = io.EOF
		}
		send(line{err: err})
	}()
	d.cmd, d.in, d.lines, d.stopped = cmd, in, lines, stopped
	return nil
}

// kill ends the program and all that it has started.
func (d *driver) kill() {
	if d.cmd == nil {
		return
	}
	close(d.stopped)
	_ = d.in.Close()
	killGroup(d.cmd)
	_ = d.cmd.Wait()
	d.cmd = nil
}

// talk asks one thing. each is called with every record of the answer.
func (d *driver) talk(ctx context.Context, q ask, each func(*export.Record) error) (*answer, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.running(); err != nil {
		return nil, err
	}
	writes := q.Ask == "change"
	d.number++
	q.ID = d.number
	text, err := json.Marshal(q)
	if err != nil {
		return nil, err
	}
	if _, err := d.in.Write(append(text, '\n')); err != nil {
		d.kill()
		return nil, &live.Again{Says: "the program has ended", Sent: writes}
	}
	for {
		var l line
		select {
		case <-ctx.Done():
			d.kill()
			return nil, &live.Again{Says: "the program gave no answer in time and was killed", Sent: writes}
		case l = <-d.lines:
		}
		if l.err != nil {
			d.kill()
			says := "the program ended before it had answered"
			if errors.Is(l.err, bufio.ErrTooLong) {
				says = "the program wrote a line of more than 8 MiB"
			}
			return nil, &live.Again{Says: says, Sent: writes}
		}
		a := &answer{}
		dec := json.NewDecoder(strings.NewReader(string(l.text)))
		dec.DisallowUnknownFields()
		if err := dec.Decode(a); err != nil {
			d.kill()
			return nil, d.nonsense(writes, "a line that is not understood: %v", plain.JSON(err))
		}
		switch {
		case a.ID < q.ID:
			continue // of something that was given up
		case a.ID > q.ID:
			d.kill()
			return nil, d.nonsense(writes, "an answer to number %d, which was not asked", a.ID)
		case a.Record != nil && each != nil:
			if err := each(a.Record); err != nil {
				d.kill() // what comes after is not wanted
				return nil, err
			}
		}
		if !a.End {
			continue
		}
		switch {
		case a.Refused != "":
			return a, &connect.Fault{Kind: connect.Refused, Says: "the program refused it: " + a.Refused}
		case a.Again != "":
			return a, &live.Again{
				Says: "the program asks to wait: " + a.Again, After: live.Pause(a.After),
			}
		}
		return a, nil
	}
}

// nonsense is an answer that is none: what was asked may have been done all the same.
func (d *driver) nonsense(writes bool, format string, args ...any) error {
	kind := connect.Failed
	if writes {
		kind = connect.Unknown
	}
	return &connect.Fault{Kind: kind, Says: "the program wrote " + fmt.Sprintf(format, args...)}
}

// Read reads all accounts, or those that are named.
func (d *driver) Read(ctx context.Context, part *live.Part, each func(*export.Record) error) error {
	var accounts []string
	if part != nil {
		accounts = part.Accounts
	}
	var records []*export.Record
	err := d.o.Ask(ctx, func(ctx context.Context) error {
		records = nil
		_, err := d.talk(ctx, ask{Ask: "accounts", Accounts: accounts}, func(r *export.Record) error {
			records = append(records, r)
			return nil
		})
		return err
	})
	if err != nil {
		return err
	}
	for _, r := range records {
		if accounts != nil && r.Account == "" {
			continue
		}
		if err := each(r); err != nil {
			return err
		}
	}
	return nil
}

// Requests asks for each change by itself, in their order.
func (d *driver) Requests(_ context.Context, work []live.Work) (out []*live.Request, _ error) {
	for _, w := range work {
		for _, c := range w.Changes {
			out = append(out, &live.Request{
				Changes: []*plan.Change{c}, Key: "all",
				Do: func(ctx context.Context, of []*plan.Change) []error {
					q := d.change(c)
					if secret := d.secret(c); secret != nil {
						var err error
						if q.Password, err = secret(c.Account); err != nil {
							return live.All(of, err)
						}
					}
					_, err := d.talk(ctx, q, nil)
					return live.All(of, err)
				},
			})
		}
	}
	return out, nil
}

// secret makes the password or the key that a change comes with, nil for none.
func (d *driver) secret(c *plan.Change) func(account string) (string, error) {
	switch {
	case c.Verb == model.Create:
		return d.o.First
	case c.Verb == model.Update && c.Attribute == model.KeySince:
		return d.o.Key
	}
	return nil
}

// change is what is asked to carry a change out.
func (d *driver) change(c *plan.Change) ask {
	q := ask{Ask: "change", Verb: c.Verb.String(), Account: c.Account, Attribute: c.Attribute, Blocked: c.Blocked}
	if c.Thing != nil {
		q.Kind, q.Thing = c.Thing.Kind.String(), c.Thing.Name
	}
	text := func(v plan.Value) string { return cmp.Or(v.Text(), strings.Join(v.List(), "\n")) }
	if q.Attributes = c.After.Fields(); q.Attributes == nil {
		q.Before, q.After = text(c.Before), text(c.After)
	}
	return q
}

// Guards: the dialogue knows no versions.
func (d *driver) Guards() bool { return false }

// Check tells what the program says of itself.
func (d *driver) Check(ctx context.Context) ([]connect.Ability, error) {
	says := d.says
	if says == "" {
		says = "it answers"
	}
	out := []connect.Ability{{What: "program", May: true, Says: says}}
	n := 0
	err := d.Read(ctx, nil, func(r *export.Record) error {
		if r.Account != "" {
			n++
		}
		return nil
	})
	what := connect.Ability{What: "read accounts", May: err == nil, Says: model.Count(n, "account", "accounts")}
	if err != nil {
		what.Says = err.Error()
	}
	out = append(out, what)
	if len(d.can) > 0 {
		out = append(out, connect.Ability{What: "change", May: true, Says: strings.Join(d.can, ", ")})
	}
	return out, nil
}

// Close lets the program end by itself, for a moment.
func (d *driver) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.cmd == nil {
		return nil
	}
	_ = d.in.Close()
	select {
	case <-d.lines:
	case <-time.After(time.Second):
	}
	d.kill()
	return nil
}

// logger hands lines on.
type logger struct {
	take func(string)
	rest string
}

func (l *logger) Write(p []byte) (int, error) {
	l.rest += string(p)
	for {
		line, rest, ok := strings.Cut(l.rest, "\n")
		if !ok {
			if len(l.rest) > maxLine {
				l.rest = ""
			}
			return len(p), nil
		}
		l.rest = rest
		if l.take != nil {
			l.take(line)
		}
	}
}
