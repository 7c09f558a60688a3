//go:build unix

package standin

import (
	"errors"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// unprivileged makes commands run as a user who may start a database: root may not. The
// folder and the files in it become that user's.
func unprivileged(folder string, files ...string) (func(*exec.Cmd), error) {
	if os.Getuid() != 0 {
		return func(*exec.Cmd) {}, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, errUID := strconv.Atoi(u.Uid)
		gid, errGID := strconv.Atoi(u.Gid)
		if errUID != nil || errGID != nil {
			continue
		}
		for _, path := range append([]string{folder}, files...) {
			if err := os.Chown(path, uid, gid); err != nil {
				return nil, err
			}
		}
		return func(cmd *exec.Cmd) {
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
		}, nil
	}
	return nil, errors.New("PostgreSQL does not run as root, and no other user could be found to run it as")
}
