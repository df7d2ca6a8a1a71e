package cli

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/registry"
)

// Lists of registries are kept from one run to the next, for their owner alone, and what
// cannot be kept or read is as if it had never been.
func TestShelf(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "cache", "unquil")
	s := shelf{folder}
	const key = "https://rdap.infra.test/lists/dns.json"
	_, ok := s.Get(key)
	assert.False(t, ok)
	first := registry.Kept{At: time.Unix(1_773_000_000, 0).UTC(), Fresh: time.Hour, Tag: `"7"`, Body: []byte(`{"services": []}`)}
	s.Put(key, first)
	got, ok := s.Get(key)
	assert.True(t, ok)
	assert.Equal(t, first, got)
	_, ok = s.Get(key + "x")
	assert.False(t, ok, "of another place")
	second := first
	second.Tag = `"8"`
	s.Put(key, second)
	got, _ = s.Get(key)
	assert.Equal(t, second, got)
	files, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, files, 1, "nothing else is left there")
	if runtime.GOOS != "windows" {
		for path, want := range map[string]os.FileMode{folder: 0o700, s.path(key): 0o600} {
			info, err := os.Stat(path)
			require.NoError(t, err)
			assert.Equal(t, want, info.Mode().Perm(), path)
		}
	}
	require.NoError(t, os.WriteFile(s.path(key), []byte("{"), 0o600))
	_, ok = s.Get(key)
	assert.False(t, ok, "half a file")
	require.NoError(t, os.Remove(s.path(key)))
	require.NoError(t, os.Mkdir(s.path(key), 0o700))
	s.Put(key, first)
	_, ok = s.Get(key)
	assert.False(t, ok, "something else has its name")
	blocked := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(blocked, nil, 0o600))
	shelf{filepath.Join(blocked, "below")}.Put(key, first)
}

func TestWhereListsAreKept(t *testing.T) {
	a := &app{environ: []string{"XDG_CACHE_HOME=/somewhere"}}
	assert.Equal(t, filepath.Join("/somewhere", "unquil", "registries"), a.cacheFolder())
}
