package desired_test

import (
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	yaml "go.yaml.in/yaml/v4"

	"pravet/examples/marrowick"
)

// TestWhateverStandsInAFileIsRead: files of the example in which a few values are exchanged for others, dropped or
// doubled are read without a crash, and each problem has its place and words. MUTANTS says how many are tried.
func TestWhateverStandsInAFileIsRead(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, false))
	quarter := os.DirFS("../../examples/quarter")
	require.NoError(t, fs.WalkDir(quarter, "paths", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := fs.ReadFile(quarter, name)
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "paths"), 0o755))
		return os.WriteFile(filepath.Join(dir, name), text, 0o644)
	}))
	var files []string
	for _, pattern := range []string{"*.yaml", "*/*.yaml"} {
		found, err := filepath.Glob(filepath.Join(dir, pattern))
		require.NoError(t, err)
		files = append(files, found...)
	}
	require.Greater(t, len(files), 8)
	n := 150
	if v := os.Getenv("MUTANTS"); v != "" {
		var err error
		n, err = strconv.Atoi(v)
		require.NoError(t, err)
	}
	wrong := 0
	for seed := range uint64(n) {
		r := rand.New(rand.NewPCG(seed, 5))
		name := files[r.IntN(len(files))]
		was, err := os.ReadFile(name)
		require.NoError(t, err)
		var root yaml.Node
		require.NoError(t, yaml.Unmarshal(was, &root))
		for range 1 + r.IntN(3) {
			mutate(r, &root)
		}
		text, err := yaml.Marshal(&root)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, text, 0o644))
		repo := read(t, dir)
		if repo.Problems.Errors() == 0 {
			repo.Matches(20781, false)
			repo.Clashes(20781)
		} else {
			wrong++
		}
		for _, p := range repo.Problems.Sorted() {
			require.NotEmpty(t, p.Pos.File, "seed %d: %s", seed, p)
			require.NotEmpty(t, p.Says, "seed %d", seed)
			require.False(t, strings.Contains(p.Says, "%!"), "seed %d: %s", seed, p.Says)
		}
		require.NoError(t, os.WriteFile(name, was, 0o644))
	}
	require.Greater(t, wrong, n/3)
	require.Zero(t, read(t, dir).Problems.Errors())
}

// mutate changes one node of a tree.
func mutate(r *rand.Rand, root *yaml.Node) {
	var all []*yaml.Node
	var walk func(n *yaml.Node)
	walk = func(n *yaml.Node) {
		all = append(all, n)
		for _, c := range n.Content {
			walk(c)
		}
	}
	for _, c := range root.Content {
		walk(c)
	}
	n, other := all[r.IntN(len(all))], all[r.IntN(len(all))]
	switch r.IntN(6) {
	case 0:
		*n = yaml.Node{Kind: yaml.ScalarNode, Value: []string{"", "~", "true", "-1", "P1D", "*", "x/y/z", "é", strings.Repeat("a", 3000)}[r.IntN(9)]}
	case 1:
		*n = yaml.Node{Kind: yaml.SequenceNode}
	case 2:
		*n = yaml.Node{Kind: yaml.MappingNode}
	case 3: // what stands elsewhere, if that does not make a circle
		n.Kind, n.Tag, n.Value, n.Style = other.Kind, other.Tag, other.Value, other.Style
		if other.Kind != yaml.ScalarNode {
			n.Content = nil
			for _, c := range other.Content {
				copied := *c
				if c.Kind != yaml.ScalarNode {
					copied = yaml.Node{Kind: yaml.ScalarNode, Value: "x"}
				}
				n.Content = append(n.Content, &copied)
			}
		}
	case 4:
		if k := len(n.Content); k > 1 {
			step := 1
			if n.Kind == yaml.MappingNode {
				step = 2
			}
			at := r.IntN(k/step) * step
			n.Content = slices.Delete(slices.Clone(n.Content), at, at+step)
		}
	default:
		n.Content = append(n.Content, n.Content...)
	}
}
