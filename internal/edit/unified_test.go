package edit_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/edit"
)

// TestADifferenceOfGitIsReadAsHunks: the old and the new lines with where they are, the long ones cut around what is asked about.
func TestADifferenceOfGitIsReadAsHunks(t *testing.T) {
	text := `diff --git a/kits/a.yaml b/kits/a.yaml
index 1..2 100644
--- a/kits/a.yaml
+++ b/kits/a.yaml
@@ -3 +3,2 @@ kits:
-  gives: a
+  gives: b
+  title: c
@@ -9,0 +11 @@
+  --- not a name
`
	require.Equal(t, []edit.Hunk{
		{Line: 3, Was: []string{"  gives: a"}, Is: []string{"  gives: b", "  title: c"}},
		{Line: 9, Is: []string{"  --- not a name"}},
	}, edit.Unified(text, 3))

	var long strings.Builder
	long.WriteString("--- /dev/null\n+++ b/x\n@@ -0,0 +1,100 @@\n")
	for i := range 100 {
		fmt.Fprintf(&long, "+%d\n", i+1)
	}
	require.Equal(t, []edit.Hunk{{
		Line: 1, Is: []string{"… 45 lines", "46", "47", "48", "49", "50", "51", "52", "53", "54", "… 46 lines"},
	}}, edit.Unified(long.String(), 50))
	require.Empty(t, edit.Unified("no difference at all", 1))
}
