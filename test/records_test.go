package test

import (
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// exchangesOf are the exchanges of a capture or record, without their numbers, in the order of what they say.
func exchangesOf(t *testing.T, args ...string) (lines []string) {
	o := run(t, append(append([]string{"decode", "--lab"}, args...), "--csv")...)
	rows, err := csv.NewReader(strings.NewReader(o.stdout)).ReadAll()
	require.NoError(t, err, o.stderr)
	for _, row := range rows[1:] {
		lines = append(lines, strings.Join(row[1:], ","))
	}
	slices.Sort(lines)
	return lines
}

// What a server records of the morning comes to the same exchanges as a capture of it: only what routers said is
// missing.
func TestRecordsAreLikeCaptures(t *testing.T) {
	want := exchangesOf(t, "valley-morning.pcapng")
	for i, line := range want {
		want[i] = strings.Replace(line, ",unreachable,", ",no-reply,", 1)
	}
	slices.Sort(want)
	folder := t.TempDir()
	export := filepath.Join(folder, "lab")
	run(t, "lab", "export", export).holds(t, 0, []string{"files written to"}, nil)
	record := filepath.Join(export, "captures", "valley-morning.dnstap")
	content, err := os.ReadFile(record)
	require.NoError(t, err)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write(content)
	require.NoError(t, z.Close())
	squeezedFile := filepath.Join(folder, "any-name.bin")
	require.NoError(t, os.WriteFile(squeezedFile, packed.Bytes(), 0o600))
	again := filepath.Join(folder, "again.cdns.zst")
	run(t, "decode", "--lab", "valley-morning.pcapng", "--to", again).holds(t, 3, []string{"360 exchanges written to", "as C-DNS"}, nil)
	packets := filepath.Join(folder, "packets.pcapng")
	run(t, "decode", record, "--to", packets).holds(t, 3, []string{"722 packets of 360 exchanges"}, nil)
	for what, path := range map[string]string{"dnstap": "valley-morning.dnstap", "C-DNS": "valley-morning.cdns", "dnstap, exported and packed": squeezedFile, "written as C-DNS and packed": again, "packets made of a record": packets} {
		t.Run(what, func(t *testing.T) { assert.Equal(t, want, exchangesOf(t, path)) })
	}
	assert.Equal(t, 360+len(exchangesOf(t, "resolver-uplink.pcap")), len(exchangesOf(t, "resolver-uplink.pcap", "valley-morning.cdns")), "kinds are mixed in one run")
	one := run(t, "decode", "--lab", "valley-morning.dnstap", "--packet", "5")
	one.holds(t, 0, []string{"from 192.0.2.21:55180", "over UDP", "recorded by a server (client-query of office.resolvers.test)", "part of"}, []string{"Ethernet", "IPv4"})
	run(t, "decode", "--lab", "valley-morning.dnstap", "--view", "walks")
}

// What cannot be written so is refused before anything is read, and files that are there stay.
func TestRecordOutputs(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "m.parquet")
	run(t, "decode", "--lab", "valley-morning.pcapng", "--to", file).holds(t, 3, []string{"as Parquet"}, nil)
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "PAR1", string(before[:4]))
	split := filepath.Join(folder, "split")
	run(t, "decode", "--lab", "valley-morning.pcapng", "--to", split, "--split", "10m,1GB").holds(t, 3, []string{"360 exchanges"}, nil)
	parts, err := filepath.Glob(filepath.Join(split, "date=2026-03-09", "hour=07", "minute=*", "*-00001.parquet"))
	require.NoError(t, err)
	assert.Len(t, parts, 2)
	for _, tt := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"--to", file}, 1, "exists already"},
		{[]string{"--to", file + ".gz"}, 2, "packed by itself"},
		{[]string{"--split", "1h"}, 2, "takes a folder"},
		{[]string{"--to", split, "--split", "7m"}, 2, "neither a time that divides a day"},
		{[]string{"--to", split, "--split", "12kB"}, 2, "neither a time"},
		{[]string{"--to", split, "--split", "10m,1GB"}, 1, "exists already"},
		{[]string{"--to", filepath.Join(folder, "none", "x.cdns")}, 1, "its folder is not there"},
		{[]string{"--to", file, "--follow-file"}, 2, "--follow-file"},
	} {
		o := run(t, append([]string{"decode", "--lab", "valley-morning.pcapng"}, tt.args...)...)
		assert.Equal(t, tt.code, o.code, o.stderr)
		assert.Contains(t, words(o.stderr), tt.want)
	}
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	left, err := filepath.Glob(filepath.Join(folder, ".unquil-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	cut := filepath.Join(folder, "cut.dnstap")
	run(t, "lab", "export", filepath.Join(folder, "lab"))
	content, err := os.ReadFile(filepath.Join(folder, "lab", "captures", "valley-morning.dnstap"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(cut, content[:50_000], 0o600))
	o := run(t, "decode", cut)
	o.holds(t, 1, []string{"of 172 exchanges failed"}, nil)
	assert.Contains(t, o.stderr, "frame at byte 50000: the file ends in the middle of a record")
}

// Servers that connect are heard like an interface: one that says something else, or ends in the middle, is told of.
func TestListenToServers(t *testing.T) {
	folder, err := os.MkdirTemp("", "unquil") // a socket's path has to be short
	require.NoError(t, err)
	defer os.RemoveAll(folder)
	run(t, "lab", "export", filepath.Join(folder, "lab"))
	content, err := os.ReadFile(filepath.Join(folder, "lab", "captures", "valley-morning.dnstap"))
	require.NoError(t, err)
	socket := filepath.Join(folder, "s")
	to := filepath.Join(folder, "heard.pcapng")
	cmd := exec.Command(program, "listen", "--from-server", "unix:"+socket, "--to", to, "--for", "4s")
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	require.NoError(t, cmd.Start())
	var conn net.Conn
	require.Eventually(t, func() bool {
		conn, err = net.Dial("unix", socket)
		return err == nil
	}, 5*time.Second, 20*time.Millisecond)
	bad, err := net.Dial("unix", socket)
	require.NoError(t, err)
	bad.Write([]byte("GET / HTTP/1.0\r\n\r\n"))
	_, err = conn.Write(content)
	require.NoError(t, err)
	finished := make([]byte, 12)
	conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	_, err = conn.Read(finished)
	require.NoError(t, err)
	assert.Equal(t, []byte{0, 0, 0, 0, 0, 0, 0, 4, 0, 0, 0, 5}, finished, "FINISH")
	_ = cmd.Wait()
	assert.Equal(t, 3, cmd.ProcessState.ExitCode(), stderr.String())
	assert.Contains(t, stdout.String(), "360, by 8 clients with 5 servers")
	assert.Contains(t, stderr.String(), "servers can send to unix:"+socket)
	assert.Contains(t, stderr.String(), "what a server sent to unix:"+socket+" ended: frame at byte 0")
	assert.NoFileExists(t, socket)
	assert.Equal(t, exchangesOf(t, "valley-morning.dnstap"), exchangesOf(t, to))

	require.NoError(t, os.WriteFile(socket, []byte("a file of somebody"), 0o600))
	for args, want := range map[string]string{"unix:" + socket: "address already in use", "udp:53": "neither unix:PATH", "unix:": "neither unix:PATH", "tcp:nowhere": "listening"} {
		o := run(t, "listen", "--from-server", args)
		assert.NotZero(t, o.code)
		assert.Contains(t, o.stderr, want)
	}
	assert.FileExists(t, socket)
}
