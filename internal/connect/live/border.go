package live

import (
	"context"
	"errors"

	"pravet/internal/connect"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/export"
)

// A border is a driver as the rest of the house sees it: what an application said is heard only through text, which
// takes out secrets and bounds how long it is. Nothing that an application said comes in otherwise, but for its
// records.
type border struct {
	Driver
	text func(string) string
}

func (b *border) Read(ctx context.Context, part *Part, each func(*export.Record) error) error {
	var own error
	err := b.Driver.Read(ctx, part, func(r *export.Record) error {
		own = each(r)
		return own
	})
	if own != nil {
		return own // it is said by whoever reads, not by the application
	}
	return b.said(err)
}

func (b *border) Requests(ctx context.Context, work []Work) ([]*Request, error) {
	requests, err := b.Driver.Requests(ctx, work)
	for _, r := range requests {
		do := r.Do
		r.Do = func(ctx context.Context, changes []*plan.Change) []error {
			errs := do(ctx, changes)
			for i := range errs {
				errs[i] = b.said(errs[i])
			}
			return errs
		}
	}
	return requests, b.said(err)
}

// SignsIn asks the driver, where it can be asked.
func (b *border) SignsIn(ctx context.Context, account, password string) (yes, known bool) {
	if d, ok := b.Driver.(connect.Signs); ok {
		return d.SignsIn(ctx, account, password)
	}
	return false, false
}

// Identity asks the driver, where it can be asked.
func (b *border) Identity(ctx context.Context) string {
	if d, ok := b.Driver.(connect.Known); ok {
		return d.Identity(ctx)
	}
	return ""
}

func (b *border) Check(ctx context.Context) ([]connect.Ability, error) {
	out, err := b.Driver.Check(ctx)
	for i := range out {
		out[i].Says = b.text(out[i].Says)
	}
	return out, b.said(err)
}

// said is an error as it may be passed on. What it means stays.
func (b *border) said(err error) error { return cleaned(err, b.text) }

func cleaned(err error, text func(string) string) error {
	var fault *connect.Fault
	var again *Again
	var moved *Moved
	switch {
	case err == nil, errors.Is(err, context.Canceled), errors.Is(err, connect.ErrNotBegun):
		return err
	case errors.As(err, &again):
		return &Again{Says: text(err.Error()), After: again.After, Sent: again.Sent, Down: again.Down, Over: again.Over, Away: again.Away}
	case errors.As(err, &fault):
		return &connect.Fault{Kind: fault.Kind, Says: text(err.Error())}
	case errors.As(err, &moved):
		return &Moved{Says: text(err.Error())}
	}
	return errors.New(text(err.Error()))
}

// said makes a text of the application one that may be shown, recorded and sent.
func (a *Application) said(text string) string {
	if a.Clean != nil {
		text = a.Clean(text)
	}
	return words.Clean(text)
}
