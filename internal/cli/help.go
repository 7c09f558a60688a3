package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/docs"
	"pravet/internal/core/table"
	"pravet/internal/show"
)

// help is the help of commands and, beside it, the pages of the docs.
func (c *program) help(root *cobra.Command) *cobra.Command {
	cmd := &cobra.Command{
		Use:     "help [COMMAND | TOPIC]",
		Short:   "Explain a command, or show a page of the docs",
		GroupID: helping,
		Long: `Help explains a command, as COMMAND --help does, or shows a page of the docs on the
terminal. Without a name it lists both.`,
		Example: example("pravet help accept", "pravet help review", "pravet help guards"),
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, noFiles
			}
			var out []string
			for _, sub := range root.Commands() {
				out = append(out, sub.Name()+"\t"+sub.Short)
			}
			for _, topic := range docs.Topics() {
				out = append(out, topic+"\t"+docs.Title(topic))
			}
			return out, noFiles
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				if err := root.Help(); err != nil {
					return err
				}
				p := show.NewPrinter(c.Stdout, c.Environ)
				p.Line()
				p.Line(sayTopics())
				for _, topic := range docs.Topics() {
					p.Line(fmt.Sprintf("  %-14s %s", topic, docs.Title(topic)))
				}
				return p.Err()
			}
			topic := strings.TrimSuffix(args[0], ".md")
			page, there := docs.Page(topic)
			if sub, rest, err := root.Find(args); err == nil && sub != root && len(rest) == 0 {
				if err := sub.Help(); err != nil || !there {
					return err
				}
				p := show.NewPrinter(c.Stdout, c.Environ)
				p.Line()
				p.Line(sayPageToo(topic))
				return p.Err()
			}
			if !there {
				all := docs.Topics()
				for _, sub := range root.Commands() {
					all = append(all, sub.Name())
				}
				return usage(sayNoTopic(args[0], table.Nearest(topic, all)))
			}
			return c.paged(func(p *show.Printer) error {
				p.MarkdownPage(page)
				return p.Err()
			})
		},
	}
	page := &cobra.Command{
		Use:     "page TOPIC",
		Short:   "Show a page of the docs, also where a command has its name",
		Long:    `Page shows a page of the docs on the terminal.`,
		Example: example("pravet help page review"),
		Args:    takes(1, 1, "which page?", "pravet help page review"),
		RunE: func(_ *cobra.Command, args []string) error {
			text, there := docs.Page(strings.TrimSuffix(args[0], ".md"))
			if !there {
				return usage(sayNoTopic(args[0], table.Nearest(args[0], docs.Topics())))
			}
			return c.paged(func(p *show.Printer) error {
				p.MarkdownPage(text)
				return p.Err()
			})
		},
	}
	page.ValidArgsFunction = func(_ *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		return docs.Topics(), noFiles
	}
	cmd.AddCommand(page)
	return cmd
}

// sayTopics is above the pages of the docs.
func sayTopics() string { return "Pages, for pravet help TOPIC:" }

// sayPageToo is said of a command that a page is called like.
func sayPageToo(topic string) string {
	return "There is a page of this name as well: pravet help page " + topic
}

// sayNoTopic is a name of neither a command nor a page; near is the nearest that there is, or "".
func sayNoTopic(name, near string) error {
	hint := "pravet help lists all"
	if near != "" {
		hint = "did you mean " + near + "?"
	}
	return fmt.Errorf("there is no command and no page %q; %s", name, hint)
}
