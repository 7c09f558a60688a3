// Package signing makes and proves signatures by SSH keys, in the format of OpenSSH (PROTOCOL.sshsig in its sources). They
// are made by ssh-keygen, which knows agents, files and hardware keys; and proved here, or by anybody with
// ssh-keygen -Y verify.
package signing

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"os"
	"os/exec"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Namespace keeps signatures of decisions apart from those that the same key makes of anything else.
const Namespace = "decision@pravet"

// blockType is what an armored signature is called.
const blockType = "SSH SIGNATURE"

// magic begins a signature, and what is signed.
const magic = "SSHSIG"

// blob is a signature as PROTOCOL.sshsig has it, after the magic.
type blob struct {
	Version   uint32
	PublicKey []byte
	Namespace string
	Reserved  string
	Hash      string
	Signature []byte
}

// signed is what the key has signed, after the magic.
type signed struct {
	Namespace string
	Reserved  string
	Hash      string
	Digest    []byte
}

// Prove proves that an armored signature is one of a message, and returns the key that made it.
func Prove(message []byte, armored string) (ssh.PublicKey, error) {
	block, rest := pem.Decode([]byte(armored))
	if block == nil || block.Type != blockType || len(bytes.TrimSpace(rest)) > 0 {
		return nil, errors.New("this is no signature as ssh-keygen makes it")
	}
	data, ok := bytes.CutPrefix(block.Bytes, []byte(magic))
	var b blob
	if !ok || ssh.Unmarshal(data, &b) != nil || b.Version != 1 {
		return nil, errors.New("this is no signature as ssh-keygen makes it")
	}
	if b.Namespace != Namespace {
		return nil, fmt.Errorf("it was made for %q, and a decision is signed for %q", b.Namespace, Namespace)
	}
	var h hash.Hash
	switch b.Hash {
	case "sha512":
		h = sha512.New()
	case "sha256":
		h = sha256.New()
	default:
		return nil, fmt.Errorf("it is made with the hash %q, which is not known", b.Hash)
	}
	h.Write(message)
	key, err := ssh.ParsePublicKey(b.PublicKey)
	if err != nil {
		return nil, fmt.Errorf("its key cannot be read: %w", err)
	}
	var sig ssh.Signature
	if err := ssh.Unmarshal(b.Signature, &sig); err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	if sig.Format == ssh.KeyAlgoRSA { // with SHA-1
		return nil, errors.New("it is made with SHA-1, which proves nothing any more")
	}
	what := append([]byte(magic), ssh.Marshal(signed{b.Namespace, b.Reserved, b.Hash, h.Sum(nil)})...)
	if err := key.Verify(what, &sig); err != nil {
		return nil, errors.New("what it was made of was changed since, or it was made by another key than it says")
	}
	return key, nil
}

// Keys are whose key is whose, and in which time: a file of allowed signers, as ssh-keygen(1) has it.
type Keys struct{ lines []line }

type line struct {
	number        int
	principals    []string
	namespaces    []string // nil for any
	after, before time.Time
	key           ssh.PublicKey
	revoked       bool
}

// A BadLine is what is wrong with a line of a file of keys.
type BadLine struct {
	Line int
	Says string
}

func (b *BadLine) Error() string { return fmt.Sprintf("line %d: %s", b.Line, b.Says) }

// ReadKeys reads a file of allowed signers. zone is by which times without one are meant.
func ReadKeys(data []byte, zone *time.Location) (*Keys, error) {
	k := &Keys{}
	for i, text := range strings.Split(string(data), "\n") {
		text = strings.TrimSpace(text)
		if text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		who, rest, ok := strings.Cut(text, " ")
		if strings.HasPrefix(text, `"`) {
			who, rest, ok = strings.Cut(text[1:], `"`)
		}
		if !ok {
			return nil, &BadLine{i + 1, "names of persons are expected, and then a key: idris@ferries.example ssh-ed25519 AAAA…"}
		}
		key, _, options, _, err := ssh.ParseAuthorizedKey([]byte(strings.TrimSpace(rest)))
		if err != nil {
			return nil, &BadLine{i + 1, "the key cannot be read; it is expected as in the file that ends with .pub"}
		}
		l := line{number: i + 1, principals: strings.Split(who, ","), key: key}
		for _, o := range options {
			name, value, _ := strings.Cut(o, "=")
			value = strings.Trim(value, `"`)
			switch strings.ToLower(name) {
			case "namespaces":
				l.namespaces = strings.Split(value, ",")
			case "valid-after":
				l.after, err = moment(value, zone)
			case "valid-before":
				l.before, err = moment(value, zone)
			case "cert-authority":
				err = errors.New("certificates are not known here; name the key itself")
			default:
				err = fmt.Errorf("the option %q is not known", name)
			}
			if err != nil {
				return nil, &BadLine{i + 1, err.Error()}
			}
		}
		k.lines = append(k.lines, l)
	}
	return k, nil
}

// moment reads a time as ssh-keygen(1) writes it: YYYYMMDD[HHMM[SS]][Z].
func moment(text string, zone *time.Location) (time.Time, error) {
	bare, utc := strings.CutSuffix(text, "Z")
	if utc || zone == nil {
		zone = time.UTC
	}
	for _, layout := range []string{"20060102", "200601021504", "20060102150405"} {
		if at, err := time.ParseInLocation(layout, bare, zone); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("the time %q is expected as YYYYMMDD or YYYYMMDDHHMM", text)
}

// Revoke takes keys out of use: a file of public keys, one in a line.
func (k *Keys) Revoke(data []byte) error {
	for i, text := range strings.Split(string(data), "\n") {
		if text = strings.TrimSpace(text); text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
		if err != nil {
			return &BadLine{i + 1, "the key cannot be read; it is expected as in the file that ends with .pub"}
		}
		for n := range k.lines {
			if bytes.Equal(k.lines[n].key.Marshal(), key.Marshal()) {
				k.lines[n].revoked = true
			}
		}
	}
	return nil
}

// Len is how many keys there are.
func (k *Keys) Len() int { return len(k.lines) }

// Principals are the names by which a key's owner is known.
func (k *Keys) Principals(key ssh.PublicKey) (out []string) {
	for _, l := range k.lines {
		if bytes.Equal(l.key.Marshal(), key.Marshal()) {
			out = append(out, l.principals...)
		}
	}
	return out
}

// Allowed makes sure that a key was somebody's at a time. names are those by which the person is known.
func (k *Keys) Allowed(key ssh.PublicKey, names []string, at time.Time) error {
	known := false
	var last error
	for _, l := range k.lines {
		if !bytes.Equal(l.key.Marshal(), key.Marshal()) {
			continue
		}
		known = true
		switch {
		case l.revoked:
			return fmt.Errorf("the key %s was revoked", ssh.FingerprintSHA256(key))
		case !l.of(names):
			last = fmt.Errorf("the key %s is %s's", ssh.FingerprintSHA256(key), strings.Join(l.principals, ", "))
		case l.namespaces != nil && !matches(l.namespaces, Namespace):
			last = fmt.Errorf("the key %s is not for decisions", ssh.FingerprintSHA256(key))
		case !l.after.IsZero() && at.Before(l.after):
			last = fmt.Errorf("the key %s is valid from %s on", ssh.FingerprintSHA256(key), l.after.Format("2006-01-02"))
		case !l.before.IsZero() && !at.Before(l.before):
			last = fmt.Errorf("the key %s had expired on %s", ssh.FingerprintSHA256(key), l.before.Format("2006-01-02"))
		default:
			return nil
		}
	}
	if !known {
		return fmt.Errorf("the key %s is nobody's in the file of keys", ssh.FingerprintSHA256(key))
	}
	return last
}

func (l *line) of(names []string) bool {
	for _, name := range names {
		if name != "" && matches(l.principals, name) {
			return true
		}
	}
	return false
}

// matches reports whether a name is one of some patterns, in which * and ? stand for others.
func matches(patterns []string, name string) bool {
	for _, p := range patterns {
		if ok, err := path.Match(p, name); err == nil && ok {
			return true
		}
	}
	return false
}

// inOneLine is what a program says on several lines, without those that are there to be seen from afar.
func inOneLine(text string) string {
	var lines []string
	for _, l := range strings.Split(text, "\n") {
		if l = strings.TrimSpace(l); l != "" && !strings.HasPrefix(l, "@") {
			lines = append(lines, l)
		}
	}
	return strings.Join(lines, " ")
}

// patience is how long somebody may take to unlock or to touch a key.
const patience = 2 * time.Minute

// Sign signs a message by ssh-keygen, with the key in a file: a private one, or a public one whose other half an agent or a
// device has. Where nobody is there to be asked, a key that needs a passphrase is an error.
func Sign(ctx context.Context, file string, message []byte, asks bool) (armored string, err error) {
	program, err := exec.LookPath("ssh-keygen")
	if err != nil {
		return "", errors.New("ssh-keygen is needed to sign, and is not there; install OpenSSH's client")
	}
	within, stop := context.WithTimeout(ctx, patience)
	defer stop()
	cmd := exec.CommandContext(within, program, "-q", "-Y", "sign", "-f", file, "-n", Namespace)
	cmd.Stdin = bytes.NewReader(message)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	if !asks {
		cmd.Env = append(cmd.Env, "SSH_ASKPASS_REQUIRE=force", "SSH_ASKPASS=/bin/false", "DISPLAY=")
		apart(cmd)
	}
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = &out, &said, time.Second
	if err := cmd.Run(); err != nil {
		says := inOneLine(said.String())
		if within.Err() != nil {
			says = fmt.Sprintf("nobody unlocked the key within %s", patience)
		}
		if strings.Contains(says, "passphrase") && !asks {
			says += "; nobody is there to be asked for it: add the key to an agent, and name the file that ends with .pub"
		}
		return "", fmt.Errorf("%s: the key does not sign: %s", file, says)
	}
	return out.String(), nil
}
