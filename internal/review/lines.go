package review

import (
	"bufio"
	"context"
	"errors"
	"io"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"pravet/internal/core/model"
	"pravet/internal/desk"
)

// Lines is a review line by line: for a screen reader, or where a terminal can do no more. Rows are numbered; each command is
// a line, and is answered by lines.
type Lines struct {
	*Front
	In   io.Reader
	Out  io.Writer
	Asks bool // somebody is there who is told what to type

	l       *list
	err     error
	numbers map[string]int // of the rows, by their keys, in the order in which they were listed first
	keys    []string       // the rows by those numbers, from 1
}

// Run reads commands until the review is left.
func (x *Lines) Run(ctx context.Context) (Outcome, error) {
	x.l, x.numbers = newList(x.Review), map[string]int{}
	x.line(sayTitle(x.Review.Plan))
	x.sums()
	x.list(-1)
	in := bufio.NewScanner(in(ctx, x.In))
	in.Buffer(nil, maxLine)
	for {
		if x.Asks {
			x.write(sayLinePrompt())
		}
		if !in.Scan() {
			return Left, errors.Join(in.Err(), x.err, ctx.Err())
		}
		word, rest, _ := strings.Cut(strings.TrimSpace(in.Text()), " ")
		switch word {
		case "":
			continue
		case "quit":
			return Left, x.err
		case "record":
			if x.Review.Empty() {
				x.line(desk.SayNothingDecided())
				continue
			}
			for _, text := range Summary(x.Review) {
				x.line(text)
			}
			if !x.Asks {
				return Confirmed, x.err
			}
			x.write(sayConfirmPrompt())
			if !in.Scan() {
				return Left, errors.Join(in.Err(), x.err)
			}
			if strings.TrimSpace(in.Text()) == "yes" {
				return Confirmed, x.err
			}
		default:
			if err := x.do(word, strings.TrimSpace(rest)); err != nil {
				x.line(err.Error())
			}
		}
		if x.err != nil {
			return Left, x.err
		}
	}
}

// maxLine is how long a line may be that somebody types.
const maxLine = 1 << 16

// in is an input that ends with a context.
func in(ctx context.Context, r io.Reader) io.Reader {
	out, to := io.Pipe()
	go func() {
		_, err := io.Copy(to, r)
		to.CloseWithError(err)
	}()
	context.AfterFunc(ctx, func() { to.CloseWithError(ctx.Err()) })
	return out
}

// do carries one command out.
func (x *Lines) do(word, rest string) error {
	switch word {
	case "help":
		for _, text := range sayLineHelp() {
			x.line(text)
		}
		return nil
	case "list":
		x.list(-1)
		return nil
	case "status":
		x.sums()
		return nil
	case "filter", "group":
		by, filter := x.l.by, x.l.filter
		if word == "filter" {
			filter = rest
		} else {
			by = rest
		}
		next, err := x.l.ask(by, filter)
		if err != nil {
			return err
		}
		x.l = next
		x.list(-1)
		return nil
	case "open", "accept", "reject", "undecide", "lift":
	default:
		return sayNoSuchLine(word)
	}
	which, rest, _ := strings.Cut(rest, " ")
	at, err := x.named(which)
	if err != nil {
		return err
	}
	if word == "open" {
		return x.open(at)
	}
	for _, i := range at {
		for _, id := range x.l.rows[i].ids {
			x.l.picked[id] = true
		}
	}
	ids := x.l.chosen(0)
	clear(x.l.picked)
	return x.decide(word, ids, strings.TrimSpace(rest))
}

// decide decides about some changes; rest is what stands behind the numbers.
func (x *Lines) decide(word string, ids []string, rest string) error {
	if word == "undecide" {
		n, err := x.Review.Leave(ids)
		x.line(sayLeft(n))
		return err
	}
	before, because, _ := strings.Cut(" "+rest, " because ")
	before, because = strings.TrimSpace(before), strings.TrimSpace(because)
	if because == "" && strings.HasPrefix(rest, "because ") {
		because = strings.TrimSpace(strings.TrimPrefix(rest, "because "))
	}
	if because == "" {
		return sayLineReason(word)
	}
	switch word {
	case "accept":
		t, err := x.Review.Accept(ids, because)
		x.line(sayTold("to accept", t))
		return err
	case "reject":
		until, standing, err := readUntil(strings.TrimPrefix(before, "until "))
		if err != nil {
			return err
		}
		t, err := x.Review.Reject(ids, because, until, standing)
		if err == nil {
			x.line(sayTold("to reject", t))
		}
		return err
	}
	name := before
	if name == "" {
		names, _ := x.Review.Guards(ids)
		switch len(names) {
		case 0:
			return errors.New(sayNotHeld())
		case 1:
			name = names[0]
		default:
			return errors.New(sayWhichGuard(names))
		}
	}
	one, err := x.Review.Lift(name, ids, because)
	if err == nil {
		x.line(sayLifted(name, one))
	}
	return err
}

// open lists what is in a row, or says all of a change.
func (x *Lines) open(at []int) error {
	for _, i := range at {
		if x.l.rows[i].kind == changeRow {
			c := x.Review.Change(x.l.rows[i].ids[0])
			m := &screen{f: x.Front, r: x.Review, l: x.l, width: lineColumns, one: c}
			for _, text := range m.opening() {
				x.line(text)
			}
			for text := range strings.SplitSeq(strings.TrimRight(x.Besides(c, lineColumns), "\n"), "\n") {
				x.line(text)
			}
			continue
		}
		x.l.turn(i, true)
		x.list(i)
		return nil
	}
	return nil
}

// lineColumns is how long lines are where nobody knows how wide it may be.
const lineColumns = 100

// number is what a row is called by, as long as the review goes on.
func (x *Lines) number(key string) int {
	if n, ok := x.numbers[key]; ok {
		return n
	}
	x.keys = append(x.keys, key)
	x.numbers[key] = len(x.keys)
	return len(x.keys)
}

// list writes rows with their numbers: all, or those within a row.
func (x *Lines) list(from int) {
	until := len(x.l.rows)
	if from >= 0 {
		for until = from + 1; until < len(x.l.rows) && x.l.rows[until].depth > x.l.rows[from].depth; until++ {
		}
	}
	if len(x.l.all) == 0 {
		x.line(sayNone(x.l.filter))
	}
	for i := max(from, 0); i < until; i++ {
		r := &x.l.rows[i]
		if r.kind == heading {
			x.line(r.says)
			continue
		}
		text, because, tail := x.l.text(r)
		if e, ok := x.l.effect(r); ok {
			text = e.String() + ", " + text
		}
		if r.kind != changeRow {
			text = model.Count(len(r.ids), "change", "changes") + ", " + text
		}
		x.line(sayRow(x.number(r.key), text, because, tail))
	}
}

// sums writes what is always in sight on a screen.
func (x *Lines) sums() {
	x.line(x.l.sums())
	b, err := x.Review.Bureau()
	if err != nil {
		x.line(err.Error())
	} else {
		s := b.Count(x.Review.Ready)
		x.line(saySeats(&s, len(s.Seats)))
	}
	if text := sayWaits(x.Review.Waiting()); text != "" {
		x.line(text)
	}
}

// named reads numbers of rows, as in 3-9,14, and finds where those are.
func (x *Lines) named(text string) (out []int, err error) {
	for part := range strings.SplitSeq(text, ",") {
		first, last, isRange := strings.Cut(part, "-")
		if !isRange {
			last = first
		}
		from, err1 := strconv.Atoi(first)
		to, err2 := strconv.Atoi(last)
		if err1 != nil || err2 != nil || from > to || from < 1 || to > len(x.keys) {
			return nil, sayNoSuchRow(part, len(x.keys))
		}
		for n := from; n <= to; n++ {
			i := x.l.find(x.keys[n-1])
			if i < 0 {
				return nil, sayRowAway(n)
			}
			out = append(out, i)
		}
	}
	return out, nil
}

// line writes a line, without colours.
func (x *Lines) line(text string) { x.write(strings.TrimRight(ansi.Strip(text), " ") + "\n") }

func (x *Lines) write(text string) {
	if x.err == nil {
		_, x.err = io.WriteString(x.Out, text)
	}
}
