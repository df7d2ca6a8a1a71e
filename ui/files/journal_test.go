package files_test

import (
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/ui/files"
)

// A journal grows by whole lines, keeps what it holds, and notices when others write to it.
func TestJournal(t *testing.T) {
	var open files.Files
	defer open.Close()
	path := filepath.Join(t.TempDir(), "case")
	j, err := open.Journal(path, false)
	require.NoError(t, err)
	require.NoError(t, j.Append([]byte("one\n")))
	require.NoError(t, j.Append([]byte("half a l")))
	require.NoError(t, j.Close())

	j, err = open.Journal(path, false)
	require.NoError(t, err)
	held, err := io.ReadAll(j.Reader())
	require.NoError(t, err)
	assert.Equal(t, "one\nhalf a l", string(held))
	assert.EqualValues(t, len(held), j.Size())
	require.NoError(t, j.Cut(4))
	require.NoError(t, j.Append([]byte("two\n")))

	other, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	other.WriteString("theirs\n")
	require.NoError(t, other.Close())
	assert.ErrorIs(t, j.Append([]byte("three\n")), files.ErrOthers)
	kept, _ := os.ReadFile(path)
	assert.Equal(t, "one\ntwo\ntheirs\n", string(kept), "nothing is lost")
	require.NoError(t, j.Close())

	open.Overwrite = true
	_, err = open.Create(path)
	assert.ErrorIs(t, err, files.ErrInput, "no output takes its place")
	_, err = open.Journal(t.TempDir(), false)
	assert.ErrorIs(t, err, files.ErrNotFile)
	_, err = open.Journal(filepath.Join(t.TempDir(), "no", "folder"), false)
	assert.ErrorIs(t, err, os.ErrNotExist)
}
