package ledger

import (
	"errors"

	"pravet/internal/core/day"
)

// Nothing is a ledger without entries, for questions asked in a repository that has
// none yet. Nothing can be written to it.
func Nothing() Ledger { return nothing{} }

type nothing struct{}

var errNothing = errors.New("a question writes nothing")

func (nothing) Append(...Record) error                { return errNothing }
func (nothing) Begin(Run) (string, error)             { return "", errNothing }
func (nothing) Scan(Query, func(*Entry) error) error  { return nil }
func (nothing) Last(Kind, string, any) (bool, error)  { return false, nil }
func (nothing) Keep(Kept) error                       { return errNothing }
func (nothing) Kept(string) (Kept, bool, error)       { return Kept{}, false, nil }
func (nothing) Sending() (func() error, error)        { return nil, errNothing }
func (nothing) Zone() day.Zone                        { return day.Zone{} }
func (nothing) Shared() bool                          { return false }
func (nothing) Lease([]string, string) (Lease, error) { return nil, errNothing }
func (nothing) Holder(...string) *Holder              { return nil }
func (nothing) Exclusive(func() error) error          { return errNothing }
func (nothing) Head() (Head, error)                   { return Head{}, nil }
func (nothing) At(int64) (string, error)              { return "", nil }
func (nothing) Cut() error                            { return nil }
func (nothing) Trust(Decision) error                  { return errNothing }
func (nothing) Verify() (*Verdict, error)             { return &Verdict{}, nil }
func (nothing) Close() error                          { return nil }
