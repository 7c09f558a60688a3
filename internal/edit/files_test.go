package edit_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/edit"
	"pravet/internal/source"
)

func folder(t *testing.T, files map[string]string) (string, *source.Tree) {
	dir := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o640))
	}
	tree, err := source.OpenTree(dir, nil)
	require.NoError(t, err)
	t.Cleanup(func() { tree.Close() })
	return dir, tree
}

func read(t *testing.T, dir, name string) string {
	data, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return string(data)
}

// Where somebody has changed one of several files meanwhile, none is written.
func TestNoneIsWrittenWhereOneHasMoved(t *testing.T) {
	dir, tree := folder(t, map[string]string{"people/a.csv": "id\nE1\n", "kits/k.yaml": "kits: {}\n"})
	f := edit.Open(tree)
	for _, name := range []string{"people/a.csv", "kits/k.yaml", "lists/new.csv"} {
		text, err := f.Text(context.Background(), name, "")
		require.NoError(t, err)
		text.Append("more")
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "people/a.csv"), []byte("id\nE1\nE2\n"), 0o640))
	err := f.Write()
	require.ErrorContains(t, err, "people/a.csv was changed by someone else just now; it is as they left it")
	assert.Equal(t, "id\nE1\nE2\n", read(t, dir, "people/a.csv"))
	assert.Equal(t, "kits: {}\n", read(t, dir, "kits/k.yaml"))
	assert.NoFileExists(t, filepath.Join(dir, "lists/new.csv"))
	left, err := os.ReadDir(filepath.Join(dir, "people"))
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing is left beside the files")

	// What somebody has made meanwhile is not written over either.
	f = edit.Open(tree)
	text, err := f.Text(context.Background(), "lists/new.csv", "")
	require.NoError(t, err)
	text.Append("mine")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lists/new.csv"), []byte("theirs"), 0o640))
	require.ErrorContains(t, f.Write(), "lists/new.csv was made by someone else just now")
	assert.Equal(t, "theirs", read(t, dir, "lists/new.csv"))
}

// A file keeps its encoding, its permissions and its line ends.
func TestAFileKeepsWhatItIs(t *testing.T) {
	dir, tree := folder(t, map[string]string{"people/a.csv": "id,name\r\nE1,Bj\xf8rn\r\n"})
	f := edit.Open(tree)
	text, err := f.Text(context.Background(), "people/a.csv", "windows-1252")
	require.NoError(t, err)
	x, err := edit.ReadCSV(text, ',')
	require.NoError(t, err)
	require.NoError(t, x.Append(map[string]string{"id": "E2", "name": "Ærø"}))
	require.NoError(t, x.Finish())
	require.NoError(t, f.Write())
	assert.Equal(t, "id,name\r\nE1,Bj\xf8rn\r\nE2,\xc6r\xf8\r\n", read(t, dir, "people/a.csv"))
	info, err := os.Stat(filepath.Join(dir, "people/a.csv"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())

	f = edit.Open(tree)
	text, err = f.Text(context.Background(), "people/a.csv", "windows-1252")
	require.NoError(t, err)
	text.Append("E3,\u0142")
	require.ErrorContains(t, f.Write(), "a character has no place in windows-1252")
}

// TestWhatWasBegunIsFinished, by what the journal says, and by nothing that it could not have said.
func TestWhatWasBegunIsFinished(t *testing.T) {
	const beside = ".k.yaml.ABCDEFGHIJ.new"
	for name, c := range map[string]struct {
		journal, says string
		files         map[string]string
		want          string // of kits/k.yaml
	}{
		"one was placed, one not": {
			`[{"name":"people/a.csv","beside":".a.csv.ABCDEFGHIJ.new","size":3},{"name":"kits/k.yaml","beside":"` + beside +
				`","size":-1}]`, "", map[string]string{"people/a.csv": "new", "kits/" + beside: "new"}, "new",
		},
		"somebody has made it since": {
			`[{"name":"kits/k.yaml","beside":"` + beside + `","size":-1}]`, "kits/k.yaml was changed by someone else since",
			map[string]string{"kits/" + beside: "new", "kits/k.yaml": "theirs"}, "theirs",
		},
		"neither is there": {
			`[{"name":"kits/k.yaml","beside":"` + beside + `","size":-1}]`, "is no file that was written for kits/k.yaml", nil, "",
		},
		"a file of another name": {
			`[{"name":"kits/k.yaml","beside":"other.yaml","size":-1}]`, "is no file that was written for kits/k.yaml",
			map[string]string{"kits/other.yaml": "other"}, "",
		},
		"outside":   {`[{"name":"../k.yaml","beside":"` + beside + `","size":-1}]`, "is no file that was written for ../k.yaml", nil, ""},
		"no JSON":   {`garbage`, "cannot be read: 'g' stands where a value is expected", nil, ""},
		"other key": {`[{"from":"x"}]`, `"from" is no key that is expected there`, nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			dir, tree := folder(t, map[string]string{".pravet/rewrite.json": c.journal, "kits/a.yaml": ""})
			for file, text := range c.files {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, file)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o640))
			}
			_, err := edit.Finish(tree)
			if c.says == "" {
				require.NoError(t, err)
				require.False(t, edit.Unfinished(tree))
			} else {
				require.ErrorContains(t, err, c.says)
				require.True(t, edit.Unfinished(tree), "it stays until a person has looked")
			}
			if c.want == "" {
				require.NoFileExists(t, filepath.Join(dir, "kits", "k.yaml"))
			} else {
				assert.Equal(t, c.want, read(t, dir, "kits/k.yaml"))
			}
		})
	}
}
