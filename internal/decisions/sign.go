package decisions

import (
	"context"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"

	"pravet/internal/core/day"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/signing"
	"pravet/internal/source"
)

// A Signer signs decisions by somebody's key.
type Signer struct {
	Repo  *desired.Repo
	Today day.Day
	Key   string // the file of a key, private or public; "" for none
	Asks  bool   // somebody is there who can unlock it
}

// Sign signs a decision, where that is asked for or a key is named. What was signed is proved before it is taken.
func (s *Signer) Sign(ctx context.Context, d *ledger.Decision) error {
	if s == nil || s.Key == "" && (s.Repo.Signing == nil || !s.Repo.Signing.Required) {
		return nil
	}
	if s.Repo.Signing == nil || s.Repo.Signing.Keys == "" {
		return sayNoKeysNamed()
	}
	if s.Key == "" {
		return sayWhichKey()
	}
	keys, err := s.Repo.Signing.ReadKeys(ctx, s.Repo.Tree)
	if err != nil {
		return err
	}
	public, err := publicKey(s.Key)
	if err != nil {
		return err
	}
	bench := (&Bench{repo: s.Repo}).on(s.Today)
	statement := Statement{Organization: s.Repo.Organization, Environment: s.Repo.Here(), Day: s.Today.String(), Decision: *d}
	for _, name := range keys.Principals(public) {
		if at := bench.find(name); at >= 0 {
			name = s.Repo.People.Get(at, "id")
		} else if statement.By != "" {
			continue
		}
		statement.By = name
	}
	if statement.By == "" {
		return sayNobodysKey(s.Key, s.Repo.Signing.Keys)
	}
	message, err := statement.Message()
	if err != nil {
		return err
	}
	armored, err := signing.Sign(ctx, s.Key, message, s.Asks)
	if err != nil {
		return err
	}
	d.Signed = &ledger.Signature{Message: string(message), Signature: armored}
	if _, no := bench.proved(&proving{signing: s.Repo.Signing, keys: keys}, d); no != nil {
		return fmt.Errorf("%s: the decision would not count: %w", s.Key, no)
	}
	return nil
}

// Message signs something that is no decision, where a key is named; "" where none is.
func (s *Signer) Message(ctx context.Context, message []byte) (armored string, err error) {
	if s.Key == "" {
		return "", nil
	}
	return signing.Sign(ctx, s.Key, message, s.Asks)
}

// publicKey reads the public half of a key, which stands in the file itself or beside it.
func publicKey(file string) (ssh.PublicKey, error) {
	for _, name := range []string{file, file + ".pub"} {
		data, err := source.ReadFile(name, name, maxKey)
		if err != nil {
			if name == file {
				return nil, err
			}
			break
		}
		if key, _, _, _, err := ssh.ParseAuthorizedKey(data); err == nil {
			return key, nil
		}
	}
	return nil, sayNoPublicKey(file)
}

// maxKey is how long a file of one key may be, in bytes.
const maxKey = 1 << 16

// sayNoKeysNamed is a key to sign with where the files do not say whose it is.
func sayNoKeysNamed() error {
	return errors.New("pravet.yaml does not say whose key is whose, so nothing is signed; add: decisions: {keys: keys/allowed_signers}")
}

// sayWhichKey is a decision that must be signed, and no key to do it.
func sayWhichKey() error {
	return errors.New("decisions are signed here; name the file of your key with --key FILE, or in the variable PRAVET_KEY")
}

// sayNobodysKey is a key that the files do not know.
func sayNobodysKey(key, file string) error {
	return fmt.Errorf("%s: this key is nobody's in %s; add a line there: NAME and the public key", key, file)
}

// sayNoPublicKey is a private key without its other half.
func sayNoPublicKey(file string) error {
	return fmt.Errorf("%s: the public key is expected in this file, or beside it in %s.pub", file, file)
}
