// Package secret reads secrets from where they are kept: the environment, a file that
// nobody else may read, or what a program prints. A secret itself never stands in a
// repository, an argument, a message or the ledger; what stands there is a reference to it.
package secret

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"
)

// maxSecret is how long a secret may be, in bytes.
const maxSecret = 4096

// patience is how long a program may take to print one.
const patience = 10 * time.Second

// The kinds of references.
const (
	inEnvironment = "env"
	inFile        = "file"
	byCommand     = "command"
)

// Check reports what is wrong with a reference, without looking where it leads.
func Check(ref string) error {
	kind, rest, ok := strings.Cut(ref, ":")
	if ok && strings.TrimSpace(rest) != "" && (kind == inEnvironment || kind == inFile || kind == byCommand) {
		return nil
	}
	return errors.New("a reference to a secret is expected here, never the secret itself: env:NAME, file:PATH or " +
		"command:PROGRAM")
}

// read reads the secret that a reference leads to. The error never holds it.
func read(ctx context.Context, ref string, environ, named []string) (string, error) {
	if err := Check(ref); err != nil {
		return "", err
	}
	kind, where, _ := strings.Cut(ref, ":")
	var text string
	var err error
	switch kind {
	case inEnvironment:
		text, err = fromEnvironment(where, environ)
	case inFile:
		text, err = fromFile(where)
	default:
		text, err = fromCommand(ctx, strings.Fields(where), slices.DeleteFunc(slices.Clone(environ), func(e string) bool {
			name, _, _ := strings.Cut(e, "=")
			return slices.Contains(named, name)
		}))
	}
	switch text = strings.TrimRight(text, "\r\n"); {
	case err != nil:
		return "", fmt.Errorf("%s: %w", ref, err)
	case text == "":
		return "", fmt.Errorf("%s: there is nothing in it", ref)
	case len(text) > maxSecret:
		return "", fmt.Errorf("%s: it is longer than %d bytes", ref, maxSecret)
	}
	return text, nil
}

func fromEnvironment(name string, environ []string) (string, error) {
	for _, e := range slices.Backward(environ) { // the last counts, as for programs
		if value, ok := strings.CutPrefix(e, name+"="); ok {
			return value, nil
		}
	}
	return "", fmt.Errorf("the environment has no variable %s", name)
}

func fromFile(name string) (string, error) {
	info, err := os.Stat(name)
	switch {
	case err != nil:
		return "", fmt.Errorf("the file cannot be read: %w", bare(err))
	case !info.Mode().IsRegular():
		return "", errors.New("this is no regular file")
	case info.Mode().Perm()&0o077 != 0:
		return "", fmt.Errorf("others may read this file; take that away with: chmod 600 %s", name)
	case info.Size() > maxSecret+2:
		return "", fmt.Errorf("the file is longer than %d bytes", maxSecret)
	}
	f, err := os.Open(name)
	if err != nil {
		return "", fmt.Errorf("the file cannot be read: %w", bare(err))
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxSecret+2))
	if err != nil {
		return "", fmt.Errorf("the file cannot be read: %w", bare(err))
	}
	return string(data), nil
}

// fromCommand is what a program prints. What it says on standard error is not passed on,
// as nobody knows what is in it.
func fromCommand(ctx context.Context, words []string, environ []string) (string, error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Env, cmd.WaitDelay = environ, time.Second
	data, err := cmd.Output()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return "", fmt.Errorf("the program gave no answer within %s", patience)
	case errors.As(err, &exit):
		return "", fmt.Errorf("the program ended with status %d", exit.ExitCode())
	case err != nil:
		return "", fmt.Errorf("the program cannot be run: %w", bare(err))
	}
	return string(data), nil
}

// bare leaves out of an error the path, which the message has already.
func bare(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	var e *exec.Error
	if errors.As(err, &e) {
		return e.Err
	}
	return err
}
