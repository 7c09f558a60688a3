package decisions

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"

	"pravet/internal/core/day"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/signing"
)

// A Proof is by what somebody else can prove a signed decision.
type Proof struct {
	Principal string // what the file of keys calls who signed it
	Day       string // on which, YYYY-MM-DD
	Revision  string // of the files that the plan was drafted from; "now" where that is not known
	Keys      []byte // the file of keys, as it was in that
}

// ProofOf gathers by what a signed decision is proved. That the signature holds is for others to see.
func ProofOf(ctx context.Context, l ledger.Ledger, repo *desired.Repo, d *ledger.Decision) (*Proof, error) {
	var s Statement
	if err := json.Unmarshal([]byte(d.Signed.Message), &s); err != nil {
		return nil, sayNoStatement()
	}
	key, err := signing.Prove([]byte(d.Signed.Message), d.Signed.Signature)
	if err != nil {
		return nil, saySignature(err)
	}
	b := (&Bench{repo: repo}).on(day.None)
	of, err := b.drafted(l, d.Plan)
	if err != nil {
		return nil, err
	}
	p := b.proves(of.revision)
	if p.err != nil {
		return nil, p.err
	}
	if p.keys == nil {
		return nil, sayNoKeysThen()
	}
	out := &Proof{Day: s.Day, Revision: cmp.Or(of.revision, "now")}
	if out.Keys, err = gitrepo.File(repo.Tree.Dir, of.revision, p.signing.Keys); err != nil {
		if out.Keys, _, _, err = repo.Tree.ReadAll(ctx, p.signing.Keys, maxKey); err != nil {
			return nil, err
		}
	}
	out.Keys = append(bytes.TrimRight(out.Keys, "\n"), '\n')
	if names := p.keys.Principals(key); len(names) > 0 {
		out.Principal = names[0]
	}
	return out, nil
}
