package test

import (
	"bytes"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/delegation"
	"unquil/core/wire"
	"unquil/core/zonefile"
	"unquil/lab"
)

// Every file that the program reads can be cut anywhere: what is left is read, or refused
// with an error that says so, and nothing panics.
func TestEveryPrefixOfEveryFormat(t *testing.T) {
	kept := func(name string) []byte {
		data, err := fs.ReadFile(lab.Captures(), name)
		require.NoError(t, err)
		return data
	}
	packed := func(data []byte) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, err := w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	packets := func(data []byte) error {
		r, err := capture.NewReader(bytes.NewReader(data))
		if err != nil {
			return err
		}
		for _, err := range r.Records() {
			if err != nil {
				return err
			}
		}
		return nil
	}
	records := func(data []byte) error {
		_, err := zonefile.Read(bytes.NewReader(data), zonefile.Options{File: "cut"})
		return err
	}
	zone := []byte("$ORIGIN hollowtarn.example.\n$TTL 1h\n@ SOA dns1 hostmaster ( 7 2h\n 15m 2w 10m ) ; timers\n NS dns1\ntext TXT \"last \\\"car\\\" down\" x\\.y\n_sip._tcp SRV 1 0 5060 phone\n")
	for name, tt := range map[string]struct {
		data    []byte
		read    func([]byte) error
		refused []error // one of which any error is; nil: any error will do that says something
	}{
		"pcap":          {kept("resolver-uplink.pcap"), packets, []error{capture.ErrEmpty, capture.ErrFormat, capture.ErrCut, capture.ErrDamaged}},
		"pcapng":        {kept("mangled.pcapng"), packets, []error{capture.ErrEmpty, capture.ErrFormat, capture.ErrCut, capture.ErrDamaged}},
		"a packed file": {packed(kept("mangled.pcapng")), packets, []error{capture.ErrEmpty, capture.ErrFormat, capture.ErrCut, capture.ErrDamaged}},
		"a message":     {kept("signed-answer.dns"), func(b []byte) error { _, err := wire.ReadMessage(b); return err }, nil},
		"a master file": {zone, records, nil},
		"root hints":    {[]byte(". 60 NS east.roots.test.\neast.roots.test. 60 A 198.51.100.1\n"), func(b []byte) error { _, err := delegation.ReadRoots(bytes.NewReader(b), "hints"); return err }, nil},
		"a message in x": {[]byte(hex.EncodeToString(kept("broken-answer.dns"))), func(b []byte) error {
			data, _ := hex.DecodeString(string(b))
			_, err := wire.ReadMessage(data)
			return err
		}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			whole := tt.read(tt.data)
			for n := range tt.data {
				err := tt.read(tt.data[:n])
				if err == nil {
					continue
				}
				require.NotEmpty(t, err.Error())
				known := len(tt.refused) == 0
				for _, one := range tt.refused {
					known = known || errors.Is(err, one)
				}
				require.True(t, known, "%d bytes: %v (the whole: %v)", n, err, whole)
			}
		})
	}
	settings := []byte("[ask]\nfrom = [\"office\"]\nwait = \"2s\"\n[resolver.office]\nat = \"192.0.2.53\"\n[group]\nall = [\"office\"]\n")
	key := []byte("name = \"transfer.\"\nalgorithm = \"hmac-sha256\"\nsecret = \"aG9sbG93dGFybg==\"\n")
	folder := t.TempDir()
	for option, data := range map[string][]byte{"--config": settings, "--key": key} {
		for n := range data {
			path := filepath.Join(folder, "cut.toml")
			require.NoError(t, os.WriteFile(path, data[:n], 0o600))
			o := run(t, "transfer", "--lab", "hollowtarn.example", "--from", "dns1.hollowtarn.example", option, path, "--bare")
			assert.Contains(t, []int{0, 1, 2, 3}, o.code)
			assert.NotContains(t, o.stderr, "panic")
			assert.LessOrEqual(t, bytes.Count([]byte(o.stderr), []byte("\n")), 3, o.stderr)
		}
	}
}
