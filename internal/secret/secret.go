// Package secret reads secrets from where they are kept: the environment, or a file that
// nobody else may read. A secret itself never stands in a repository, an argument, a
// message or the ledger; what stands there is a reference to it.
package secret

import (
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// maxSecret is how long a secret may be, in bytes.
const maxSecret = 4096

// Check reports what is wrong with a reference, without looking where it leads.
func Check(ref string) error {
	kind, rest, ok := strings.Cut(ref, ":")
	if !ok || rest == "" || kind != "env" && kind != "file" {
		return fmt.Errorf("a reference to a secret is expected here, never the secret itself: env:NAME or file:PATH")
	}
	return nil
}

// Read reads the secret that a reference leads to. The error never holds it.
func Read(ref string, environ []string) (string, error) {
	if err := Check(ref); err != nil {
		return "", err
	}
	kind, name, _ := strings.Cut(ref, ":")
	if kind == "env" {
		for _, e := range environ {
			if value, ok := strings.CutPrefix(e, name+"="); ok && value != "" {
				return value, nil
			}
		}
		return "", fmt.Errorf("%s: the environment has no variable %s", ref, name)
	}
	info, err := os.Stat(name)
	switch {
	case err != nil:
		return "", fmt.Errorf("%s: the file cannot be read: %w", ref, bare(err))
	case !info.Mode().IsRegular():
		return "", fmt.Errorf("%s: this is no regular file", ref)
	case info.Mode().Perm()&0o077 != 0:
		return "", fmt.Errorf("%s: others may read this file; take that away with: chmod 600 %s", ref, name)
	case info.Size() > maxSecret:
		return "", fmt.Errorf("%s: the file is longer than %d bytes", ref, maxSecret)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return "", fmt.Errorf("%s: the file cannot be read: %w", ref, bare(err))
	}
	text := strings.TrimRight(string(data), "\r\n")
	if text == "" {
		return "", fmt.Errorf("%s: the file is empty", ref)
	}
	return text, nil
}

// bare leaves out of an error the path, which the message has already.
func bare(err error) error {
	if p, ok := err.(*fs.PathError); ok {
		return p.Err
	}
	return err
}
