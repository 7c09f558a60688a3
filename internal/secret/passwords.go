// First passwords are made here, which their owners change when they sign in for the
// first time. They leave Pravet encrypted alone, for those whom pravet.yaml names
// (age, https://age-encryption.org/v1), and are kept nowhere else.

package secret

import (
	"bytes"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
)

// alphabet leaves out what is easily taken for something else.
const alphabet = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"

// A password has groups of characters, 116 bits of chance in all, and one sign, as some
// applications ask for one.
const (
	groups = 4
	each   = 5
)

// New is a password that nobody has had.
func NewPassword() (string, error) {
	var parts []string
	for range groups {
		part := make([]byte, each)
		for i := range part {
			n, err := rand.Int(rand.Reader, big.NewInt(int64(len(alphabet))))
			if err != nil {
				return "", err
			}
			part[i] = alphabet[n.Int64()]
		}
		parts = append(parts, string(part))
	}
	return strings.Join(parts, "-"), nil
}

// Recipient reads for whom something is encrypted: a recipient of age, or a public key of SSH.
func Recipient(text string) (age.Recipient, error) {
	text = strings.TrimSpace(text)
	switch {
	case strings.HasPrefix(text, "age1pq1"):
		return age.ParseHybridRecipient(text)
	case strings.HasPrefix(text, "age1"):
		return age.ParseX25519Recipient(text)
	case strings.HasPrefix(text, "ssh-"):
		return agessh.ParseRecipient(text)
	case strings.HasPrefix(text, "AGE-SECRET-KEY"):
		return nil, errors.New(
			"this is a secret key, and a recipient is expected; replace that key, as others have seen it",
		)
	}
	return nil, errors.New("a recipient begins with age1 or with ssh-ed25519 or ssh-rsa")
}

// A First is a first password, for whoever hands it over.
type First struct {
	Application string `json:"application"`
	Account     string `json:"account"`
	Person      string `json:"person,omitempty"`
	Password    string `json:"password"`
}

// Seal writes a first password for its recipients alone.
func Seal(w io.Writer, to []age.Recipient, f First) error {
	out, err := age.Encrypt(w, to...)
	if err != nil {
		return err
	}
	enc := json.NewEncoder(out)
	enc.SetIndent("", "  ")
	return errors.Join(enc.Encode(f), out.Close())
}

// Open reads what was sealed.
func Open(data []byte, as ...age.Identity) (First, error) {
	var f First
	r, err := age.Decrypt(bytes.NewReader(data), as...)
	if err == nil {
		err = json.NewDecoder(r).Decode(&f)
	}
	return f, err
}

// Verifier is by what a PostgreSQL server knows a password without having it (RFC 5803).
func Verifier(password string) (string, error) {
	const rounds = 4096
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		return "", err
	}
	mac := func(text string) []byte {
		h := hmac.New(sha256.New, salted)
		h.Write([]byte(text))
		return h.Sum(nil)
	}
	stored := sha256.Sum256(mac("Client Key"))
	b64 := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", rounds, b64(salt), b64(stored[:]), b64(mac("Server Key"))), nil
}
