package sheet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"
)

// patience is how long a program may take that prints people.
const patience = 10 * time.Minute

// Output is what a program prints that is run in a folder, of at most 512 MiB.
func Output(ctx context.Context, dir string, program, environ []string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, program[0], program[1:]...)
	out, said := &bounded{most: maxSheet}, &bounded{most: 4096}
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = dir, environ, out, said
	cmd.WaitDelay = time.Second
	err := cmd.Run()
	switch {
	case ctx.Err() != nil && errors.Is(ctx.Err(), context.DeadlineExceeded):
		return nil, fmt.Errorf("it was still running after %s, and was ended", patience)
	case out.over:
		return nil, errors.New("it printed more than 512 MiB")
	case err != nil:
		if text := strings.TrimSpace(said.String()); text != "" {
			return nil, fmt.Errorf("%w: %s", err, text)
		}
		return nil, err
	}
	return out.Bytes(), nil
}

// bounded keeps so many bytes.
type bounded struct {
	bytes.Buffer
	most int
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > b.most {
		b.over = true
		b.Buffer.Write(p[:max(0, b.most-b.Len())])
		return len(p), nil
	}
	return b.Buffer.Write(p)
}
