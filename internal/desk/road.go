package desk

import (
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
)

// NextStep is what comes next on the road from a spreadsheet and some exports to a plan with no change, after a command; "" for
// somebody who has gone it: something was carried out already.
func (d *Desk) NextStep(after string) string {
	l, err := d.Book()
	if err != nil {
		return ""
	}
	began := true
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.RunStarted}}, func(*ledger.Entry) error {
		began = false
		return ledger.ErrStop
	})
	if err != nil || !began {
		return ""
	}
	repo, err := d.Repo()
	if err != nil {
		return ""
	}
	switch after {
	case "intake":
		if len(repo.Apps) == 0 {
			return sayNextAdopt()
		}
		return ""
	case "adopt":
		return sayNextPropose()
	case "propose":
		return sayNextDraft()
	}
	if revision, _, err := gitrepo.Revision(d.Dir); err != nil || revision == "" {
		return sayNextGit()
	}
	return ""
}

// sayNextAdopt comes after people were taken in.
func sayNextAdopt() string {
	return "Next, take over an application as it is: pravet adopt --app ID exports/FILE"
}

// sayNextPropose comes after an application was taken over.
func sayNextPropose() string {
	return "Next, take over the other applications in the same way; then find rules in what people have: pravet propose"
}

// sayNextDraft comes after rules were written.
func sayNextDraft() string { return "Next, make sure that nothing would change: pravet draft" }

// sayNextGit comes after the first plan.
func sayNextGit() string {
	return "Next, keep the files in Git, so that every plan names its commit: git init && git add . && git commit -m 'As it is'"
}
