package standin

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Database is a PostgreSQL server that runs.
type Database struct {
	URL      string // of its database postgres
	User     string
	Password string
	server
}

// StartDatabase starts a PostgreSQL server in a folder: the newest that is installed or, where programs are named, the
// one of that folder.
func StartDatabase(ctx context.Context, folder string, programs ...string) (*Database, error) {
	const debian = "/usr/lib/postgresql/*/bin"
	program := func(name string) (string, error) {
		if len(programs) > 0 {
			return filepath.Join(programs[0], name), nil
		}
		return installed(name, "postgresql", debian)
	}
	initdb, err := program("initdb")
	if err != nil {
		return nil, err
	}
	postgres, err := program("postgres")
	if err != nil {
		return nil, err
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	d := &Database{
		URL: fmt.Sprintf("postgres://127.0.0.1:%d/postgres", port), User: "keeper", Password: rand.Text(),
	}
	data, secret := filepath.Join(folder, "data"), filepath.Join(folder, "password")
	if err := os.WriteFile(secret, []byte(d.Password), 0o600); err != nil {
		return nil, err
	}
	as, err := unprivileged(folder, secret)
	if err != nil {
		return nil, err
	}
	init := exec.CommandContext(
		ctx,
		initdb,
		"-D",
		data,
		"-U",
		d.User,
		"--pwfile",
		secret,
		"-A",
		"scram-sha-256",
		"-E",
		"UTF8",
		"--locale=C",
		"-N",
	)
	init.Dir = folder
	as(init)
	if out, err := init.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("the database could not be made: %w: %s", err, out)
	}
	d.again = func(ctx context.Context) (*process, error) {
		cmd := exec.Command(
			postgres, "-D", data, "-p", strconv.Itoa(port), "-k", "", "-h", "127.0.0.1", "-c", "log_statement=ddl",
			"-c", "max_connections=40", "-c", "log_line_prefix=",
		)
		cmd.Dir = folder
		as(cmd)
		return start(ctx, cmd, folder, port)
	}
	if d.process, err = d.again(ctx); err != nil {
		return nil, err
	}
	ready, err := installed("pg_isready", "postgresql-client", debian)
	if err != nil {
		return nil, errors.Join(err, d.Stop())
	}
	for deadline := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		err := exec.CommandContext(ctx, ready, "-h", "127.0.0.1", "-p", strconv.Itoa(port)).Run()
		if err == nil {
			return d, nil
		}
		if time.Now().After(deadline) {
			return nil, errors.Join(fmt.Errorf("the database does not get ready: %w", err), d.Stop())
		}
	}
}

// Run sends statements to the server, one after the other.
func (d *Database) Run(ctx context.Context, sql ...string) error {
	c, err := pgx.ParseConfig(d.URL + "?sslmode=disable")
	if err != nil {
		return err
	}
	c.User, c.Password = d.User, d.Password
	conn, err := pgx.ConnectConfig(ctx, c)
	if err != nil {
		return err
	}
	for _, one := range sql {
		if _, err = conn.Exec(ctx, one); err != nil {
			err = fmt.Errorf("%s: %w", one, err)
			break
		}
	}
	return errors.Join(err, conn.Close(ctx))
}

// Statements are those that have changed something, as the server has noted them.
func (d *Database) Statements() (out []string) {
	for line := range strings.Lines(d.process.told()) {
		if _, text, ok := strings.Cut(line, "statement: "); ok {
			out = append(out, strings.TrimSpace(text))
		} else if _, text, ok := strings.Cut(line, ": "); ok && strings.Contains(line, "execute") {
			out = append(out, strings.TrimSpace(text))
		}
	}
	return out
}
