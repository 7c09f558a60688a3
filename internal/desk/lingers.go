package desk

import (
	"fmt"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/past"
	"pravet/internal/prepare"
)

// A Keeping is somebody who keeps what a kit gave for a while.
type Keeping struct {
	Person string `json:"person"`
	Name   string `json:"name"`
	Kit    string `json:"kit"`
	Until  string `json:"until"` // the last day, YYYY-MM-DD
}

// idleLingers are the kits whose linger does nothing yet: somebody holds them by their rule, and no draft has seen that since the
// linger was added.
func (d *Desk) idleLingers(repo *desired.Repo) (out []*model.Kit, err error) {
	if !prepare.Lingers(repo) {
		return nil, nil
	}
	l, err := d.Book()
	if err != nil {
		return nil, err
	}
	was, err := past.Lingering(l, repo.Kits, repo.People)
	if err != nil {
		return nil, err
	}
	for k, kit := range repo.Kits {
		if kit.Linger != (day.Duration{}) && len(was[k].Held)+len(was[k].Since) == 0 && kit.HasRule() {
			out = append(out, kit)
		}
	}
	return out, nil
}

// keepings lets people keep in both views what kits gave them for a while, and returns who would keep what once the files are as
// in the second.
func (d *Desk) keepings(repo, would *desired.Repo, before, after *access.View) (out []Keeping, err error) {
	if !prepare.Lingers(would) {
		return nil, nil
	}
	l, err := d.Book()
	if err != nil {
		return nil, err
	}
	if err := prepare.Keep(l, repo, before); err != nil {
		return nil, err
	}
	if err := prepare.Keep(l, would, after); err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, x := range before.Due.Linger {
		known[before.People.Get(int(x.Person), "id")+"\x00"+repo.Kits[x.Kit].Name] = true
	}
	for _, x := range after.Due.Linger {
		id, kit := after.People.Get(int(x.Person), "id"), would.Kits[x.Kit].Name
		if !known[id+"\x00"+kit] {
			out = append(out, Keeping{id, after.People.Called(int(x.Person)), kit, x.Until.String()})
		}
	}
	return out, nil
}

// SayIdleLinger is a linger that does nothing yet.
func SayIdleLinger(kit string) string {
	return fmt.Sprintf("the linger of kit %s does nothing yet, because nothing was drafted since it was added: a draft before people "+
		"leave the kit makes it count", kit)
}
