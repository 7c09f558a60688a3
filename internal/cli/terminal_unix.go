//go:build unix

package cli

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// terminal tells terminals apart: by their device, and by the session of processes that they are for, as
// a device is given to another terminal later.
func terminal() string {
	session, err := unix.Getsid(0)
	if err != nil {
		session = os.Getppid()
	}
	var st unix.Stat_t
	if unix.Fstat(int(os.Stdin.Fd()), &st) != nil {
		return fmt.Sprint(session)
	}
	return fmt.Sprintf("%d %d", session, st.Rdev)
}
