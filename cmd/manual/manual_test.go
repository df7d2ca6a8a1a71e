package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/ui/data"
)

// The schemas that are published are those of the types now.
func TestSchemasAreCurrent(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, writeSchemas(folder))
	for name := range schemas {
		now, err := os.ReadFile(filepath.Join(folder, name+".json"))
		require.NoError(t, err)
		kept, err := os.ReadFile(filepath.Join("../../docs/schema", name+".json"))
		require.NoError(t, err)
		assert.Equal(t, string(kept), string(now), "run go generate ./cmd/manual, and read the difference")
	}
}

// The page on tables has the columns as they are.
func TestColumnsAreCurrent(t *testing.T) {
	page, err := os.ReadFile("../../docs/at-scale.md")
	require.NoError(t, err)
	assert.Contains(t, string(page), data.ColumnTable())
}
