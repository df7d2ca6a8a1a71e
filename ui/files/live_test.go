package files

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is put in place while it is being written is there however the run ends; a file that was
// there is not written over, and only what the run made itself is taken away again.
func TestPutNow(t *testing.T) {
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	require.NoError(t, os.WriteFile(at("old"), []byte("old"), 0o600))
	var f Files
	_, err := f.Create(at("old"))
	require.ErrorIs(t, err, ErrExists)
	o, err := f.Create(at("new"))
	require.NoError(t, err)
	require.NoError(t, o.PutNow())
	o.Write([]byte("first, second"))
	held := func(name string) string { text, _ := os.ReadFile(at(name)); return string(text) }
	assert.Equal(t, "first, second", held("new"))
	require.NoError(t, o.Truncate(5))
	o.Write([]byte("!"))
	assert.Equal(t, "first!", held("new"))
	again, err := f.Create(at("again"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("again"), []byte("somebody else's"), 0o600))
	assert.ErrorIs(t, again.PutNow(), ErrExists)
	assert.Equal(t, "somebody else's", held("again"))
	require.NoError(t, o.Commit())
	gone, err := f.Create(at("gone"))
	require.NoError(t, err)
	require.NoError(t, gone.PutNow())
	require.NoError(t, gone.Commit())
	require.NoError(t, gone.Remove())
	require.NoError(t, os.Rename(at("again"), at("new")))
	o.Remove()
	assert.Equal(t, "somebody else's", held("new"))
	f.Close()
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, left, 2, "and nothing is left lying about: %v", left)
}
