// Command pravet keeps people's access to business applications as it is
// described in files.
package main

import (
	"os"

	"pravet/internal/cli"
)

// version is set when the program is built.
var version = "unversioned"

func main() {
	os.Exit(cli.Run(os.Args[1:], cli.System(version)))
}
