package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unquil/ui/data"
)

// A folder is split by a time that divides a day, by a size, or by both.
func TestSplit(t *testing.T) {
	for text, want := range map[string]data.Split{
		"1h": {Every: time.Hour}, "1d": {Every: 24 * time.Hour}, "10m": {Every: 10 * time.Minute}, "1GB": {Bytes: 1e9}, "1h,500MB": {Every: time.Hour, Bytes: 500e6}, "2MB,1d": {Every: 24 * time.Hour, Bytes: 2e6},
	} {
		got, err := parseSplit(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, bad := range []string{"", "7m", "30s", "48h", "-1h", "1kB", "GB", "1h;1GB", "soon", "1h,,"} {
		_, err := parseSplit(bad)
		assert.ErrorIs(t, err, errSplit, bad)
	}
}
