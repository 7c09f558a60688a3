package cli
import "github.com/spf13/cobra"
func (c *context) new() *cobra.Command { return &cobra.Command{Use: "new DIR", GroupID: keeping, RunE: func(*cobra.Command, []string) error { return nil }} }
func (c *context) demo() *cobra.Command { return &cobra.Command{Use: "demo", GroupID: trying, RunE: func(*cobra.Command, []string) error { return nil }} }
