// Command man writes the manual pages of all commands into a folder.
package main

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra/doc"

	"pravet/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "man FOLDER writes the manual pages into a folder")
		os.Exit(2)
	}
	root := cli.Tree(cli.System(""))
	root.DisableAutoGenTag = true
	head := &doc.GenManHeader{Title: "PRAVET", Section: "1", Source: "Pravet", Manual: "Pravet", Date: &time.Time{}}
	if err := os.MkdirAll(os.Args[1], 0o755); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	if err := doc.GenManTree(root, head, os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
