package source_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"pgregory.net/rapid"

	"pravet/internal/core/model"
	"pravet/internal/source"
)

func file(t *testing.T, content string) string {
	path := filepath.Join(t.TempDir(), "f")
	require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	return path
}

// at opens a file by its path, as the only one of a tree.
func at(t testing.TB, path string) (*source.Reader, error) {
	tree, err := source.OpenTree(filepath.Dir(path), nil)
	require.NoError(t, err)
	t.Cleanup(func() { tree.Close() })
	return tree.Open(context.Background(), filepath.Base(path))
}

func open(t *testing.T, content string) *source.Reader {
	path := filepath.Join(t.TempDir(), "f.csv")
	require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	r, err := at(t, path)
	require.NoError(t, err)
	t.Cleanup(func() { r.Close() })
	return r
}

func TestAReaderGivesTheTextAndTheDigest(t *testing.T) {
	for _, content := range []string{"", "a", "\ufeff", "\ufeffid\r\nø", strings.Repeat("søren\n", 100_000)} {
		sum := blake3.Sum256([]byte(content))
		want := "blake3:" + hex.EncodeToString(sum[:])
		r := open(t, content)
		text, err := io.ReadAll(iotest.HalfReader(r))
		if len(content) > 100 {
			r = open(t, content)
			text, err = io.ReadAll(r)
		}
		require.NoError(t, err)
		require.Equal(t, strings.TrimPrefix(content, "\ufeff"), string(text))
		digest, err := r.Digest()
		require.NoError(t, err)
		require.Equal(t, want, digest)
		// Also when nothing was read before, or only a part.
		part := open(t, content)
		_, err = part.Read(make([]byte, 3))
		require.True(t, err == nil || errors.Is(err, io.EOF))
		digest, err = part.Digest()
		require.NoError(t, err)
		require.Equal(t, want, digest)
	}
}

// TestWrongEncodingIsFoundWhereverReadsCutIt: the place does not depend on how
// many bytes a read gives.
func TestWrongEncodingIsFoundWhereverReadsCutIt(t *testing.T) {
	for _, c := range []struct{ content, says, at string }{
		{"id\nab\xffc", "this is not UTF-8", "f.csv:2:3"},
		{"sø\xc3(", "this is not UTF-8", "f.csv:1:3"},
		{"a\x00", "NUL byte", "f.csv:1:2"},
		{"a\nø\xe2\x82", "ends in the middle of a character", "f.csv:2:"},
		{"\xff\xfea\x00", "UTF-16", "f.csv:1:1"},
		{"\xfe\xff\x00a", "UTF-16", "f.csv:1:1"},
	} {
		for size := 4; size < 9; size++ {
			r := open(t, c.content)
			var err error
			buf := make([]byte, size)
			for err == nil {
				_, err = r.Read(buf)
			}
			var p *source.Problem
			require.True(t, errors.As(err, &p), "%q: %v", c.content, err)
			require.Contains(t, p.Says, c.says, "%q in reads of %d", c.content, size)
			require.True(t, strings.HasPrefix(p.Pos.String(), c.at), "%q in reads of %d: %s", c.content, size, p.Pos)
			_, again := r.Read(buf)
			require.Equal(t, err, again, "the error stays")
		}
	}
}

func TestValidTextIsNeverRefused(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		content := strings.ReplaceAll(rapid.String().Draw(rt, "content"), "\x00", "")
		path := file(t, "x"+content)
		r, err := at(t, path)
		require.NoError(rt, err)
		defer r.Close()
		var got bytes.Buffer
		buf := make([]byte, rapid.IntRange(4, 12).Draw(rt, "size"))
		for {
			n, err := r.Read(buf)
			got.Write(buf[:n])
			if err == io.EOF {
				break
			}
			require.NoError(rt, err)
		}
		require.Equal(rt, "x"+content, got.String())
	})
}

func TestARecordHasABound(t *testing.T) {
	content := "id\n" + strings.Repeat("x", 3000) + "\nend\n"
	r := open(t, content)
	r.Limit = 1000
	buf := make([]byte, 100)
	var err error
	for err == nil {
		_, err = r.Read(buf)
	}
	require.ErrorContains(t, err, "f.csv:1: the record that begins here is longer than 1,000 bytes")
	// Records that end count from their ends.
	r = open(t, content)
	r.Limit = 1000
	for err = nil; err == nil; _, err = r.Read(buf) {
		r.Mark()
	}
	require.ErrorIs(t, err, io.EOF)
}

func TestAPositionCountsCharacters(t *testing.T) {
	r := open(t, "\ufeffsøren\nab\nøøx")
	for offset, want := range map[int64]string{
		0: "f.csv:1:1", 3: "f.csv:1:3", 7: "f.csv:2:1", 14: "f.csv:3:3", 99: "f.csv:3:4",
	} {
		_, err := r.Read(make([]byte, 4))
		require.True(t, err == nil || errors.Is(err, io.EOF))
		pos, err := r.Position(offset)
		require.NoError(t, err)
		require.Equal(t, want, pos.String(), offset)
	}
}

func TestStagingReplacesAFileAsAWhole(t *testing.T) {
	path := file(t, "old")
	dir := filepath.Dir(path)
	require.NoError(t, os.Chmod(path, 0o600))
	tree, err := source.OpenTree(dir, nil)
	require.NoError(t, err)
	defer tree.Close()
	text := func(s string) func(io.Writer) error {
		return func(w io.Writer) error { _, err := io.WriteString(w, s); return err }
	}
	s, err := tree.Stage("f", 0o644, text("new"))
	require.NoError(t, err)
	now, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "old", string(now), "nothing is replaced before Commit")
	sum := blake3.Sum256([]byte("new"))
	require.Equal(t, "blake3:"+hex.EncodeToString(sum[:]), s.Digest())
	require.NoError(t, s.Commit())
	now, err = os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "new", string(now))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	// A failure, or a change of mind, leaves nothing behind.
	broken := errors.New("broken")
	_, err = tree.Stage("f", 0o644, func(w io.Writer) error { return errors.Join(text("half")(w), broken) })
	require.ErrorIs(t, err, broken)
	s, err = tree.Stage("f", 0o644, text(""))
	require.NoError(t, err)
	s.Drop()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 1)

	// A link is not written through.
	require.NoError(t, os.Symlink("f", filepath.Join(dir, "link")))
	_, err = tree.Stage("link", 0o644, text("x"))
	require.ErrorContains(t, err, "link is a link; name the file itself")
	require.NoError(t, os.Remove(filepath.Join(dir, "link")))

	// What a killed process has left is swept, and nothing else; unless it is
	// known and put in place.
	for _, name := range []string{".f.123.new", ".g.1.new", "f.new"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	require.NoError(t, tree.Sweep("f"))
	entries, err = os.ReadDir(dir)
	require.NoError(t, err)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	require.Equal(t, []string{".g.1.new", "f", "f.new"}, names)
	s, err = tree.Stage("f", 0o644, text("later"))
	require.NoError(t, err)
	require.NoError(t, tree.Finish("f", s.Name()))
	now, err = os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "later", string(now))
}

// TestNoNameLeadsOutOfATree, but into a folder that was opened for it.
func TestNoNameLeadsOutOfATree(t *testing.T) {
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("a secret"), 0o644))
	dir := t.TempDir()
	require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(dir, "link")))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "folder")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f"), []byte("inside"), 0o644))
	require.NoError(t, os.Symlink("f", filepath.Join(dir, "inside")))
	up, err := filepath.Rel(dir, filepath.Join(outside, "secret"))
	require.NoError(t, err)
	names := []string{"link", "folder/secret", filepath.Join(outside, "secret"), up, "x/../" + up}
	text := func(w io.Writer) error { _, err := io.WriteString(w, "written"); return err }
	for _, opened := range []bool{false, true} {
		var folders []string
		if opened {
			folders = []string{outside}
		}
		tree, err := source.OpenTree(dir, folders)
		require.NoError(t, err)
		defer tree.Close()
		for _, name := range names {
			data, _, _, err := tree.ReadAll(context.Background(), name, 100)
			if opened {
				require.NoError(t, err, name)
				require.Equal(t, "a secret", string(data))
				require.NoError(t, tree.Allowed(name))
				continue
			}
			require.ErrorContains(t, err, "the path is outside the repository", name)
			require.NotContains(t, err.Error(), "a secret")
			require.Error(t, tree.Allowed(name))
			_, err = tree.Stage(name, 0o644, text)
			require.Error(t, err, name)
			_, err = tree.Exists(name)
			require.Error(t, err, name)
		}
		data, _, _, err := tree.ReadAll(context.Background(), "inside", 100)
		require.NoError(t, err, "a link within the tree is fine")
		require.Equal(t, "inside", string(data))
	}
	secret, err := os.ReadFile(filepath.Join(outside, "secret"))
	require.NoError(t, err)
	require.Equal(t, "a secret", string(secret))
}

func TestProblemsComeByPlaceAndAreCounted(t *testing.T) {
	var p source.Problems
	add := func(file string, line int) {
		p.Add(source.NewProblem(model.Pos{File: file, Line: line, Column: 1}, "r", fmt.Sprint(line), ""))
	}
	add("b", 1)
	for line := 300; line > 0; line-- {
		add("a", line)
	}
	all := p.Sorted()
	require.Len(t, all, 202)
	require.Equal(t, 101, all[0].Pos.Line, "the first that were found are kept")
	require.Equal(t, "a: 100 more problems in this file; fix the ones above first", all[200].Error())
	require.Equal(t, "b", all[201].Pos.File)
}

// TestASieveKeepsWhatIsWantedAndTheLines: of any file, the records that hold a
// word come out whole and at their lines, and so does the first.
func TestASieveKeepsWhatIsWantedAndTheLines(t *testing.T) {
	outer := t
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		cell := rapid.SampledFrom([]string{
			"x", "Maren", "a \"quoted\" one", "two\nlines", "two\r\nlines with maren", "", "søren", "MAREN", ";",
		})
		var want []string
		w := csv.NewWriter(&b)
		w.UseCRLF = rapid.Bool().Draw(t, "crlf")
		for i := range rapid.IntRange(1, 40).Draw(t, "records") {
			row := []string{
				fmt.Sprint(i),
				cell.Draw(t, "a"),
				strings.Repeat(cell.Draw(t, "b"), rapid.SampledFrom([]int{1, 1, 1, 9000}).Draw(t, "times")),
			}
			before := strings.Count(b.String(), "\n")
			require.NoError(t, w.Write(row))
			w.Flush()
			if i == 0 || strings.Contains(strings.ToLower(strings.Join(row, ",")), "maren") {
				want = append(want, fmt.Sprint(before+1, row[0]))
			}
		}
		path := filepath.Join(os.TempDir(), fmt.Sprintf("sieve-%d.csv", os.Getpid()))
		require.NoError(t, os.WriteFile(path, []byte(b.String()), 0o600))
		defer os.Remove(path)
		src, err := at(outer, path)
		require.NoError(t, err)
		defer src.Close()
		rd := csv.NewReader(source.Sieve(src, []string{"Maren", ""}))
		var got []string
		for {
			row, err := rd.Read()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			line, _ := rd.FieldPos(0)
			got = append(got, fmt.Sprint(line, row[0]))
		}
		require.Equal(t, want, got)
	})
}

// FuzzSieve: of any bytes, what a sieve passes on has as many lines as the file.
func FuzzSieve(f *testing.F) {
	for _, seed := range []string{"id,name\n1,ada\n2,bo\n", "a,\"b\nada\",c\r\n\"\",x", "\"", "", "\n\n", "ada"} {
		f.Add([]byte(seed), "ada")
	}
	f.Fuzz(func(t *testing.T, data []byte, word string) {
		path := file(t, string(data))
		src, err := at(t, path)
		require.NoError(t, err)
		defer src.Close()
		out, err := io.ReadAll(source.Sieve(src, []string{word}))
		if err == nil {
			text := bytes.TrimPrefix(data, []byte("\ufeff"))
			require.Equal(t, bytes.Count(text, []byte("\n")), bytes.Count(out, []byte("\n")))
		}
	})
}

func BenchmarkSieve(b *testing.B) {
	var text strings.Builder
	for i := range 200_000 {
		fmt.Fprintf(
			&text,
			"P%07d,user.%07d,Person Number %d,user.%07d@large.example,Title 00,Department 00\n",
			i,
			i,
			i,
			i,
		)
	}
	path := filepath.Join(b.TempDir(), "f")
	require.NoError(b, os.WriteFile(path, []byte(text.String()), 0o644))
	b.SetBytes(int64(text.Len()))
	for b.Loop() {
		src, err := at(b, path)
		require.NoError(b, err)
		_, err = io.Copy(io.Discard, source.Sieve(src, []string{"user.0177777"}))
		require.NoError(b, err)
		src.Close()
	}
}
