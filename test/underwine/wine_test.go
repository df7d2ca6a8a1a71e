// Package underwine runs the Windows program on other systems, as far as Wine carries it.
package underwine

import (
	"bytes"
	"context"
	"debug/pe"
	"encoding/binary"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// forwarding is a Windows library that holds nothing but one export, which another library has under another
// name (PE format, "Export Address Table": an address within the table itself is a forwarder).
func forwarding(library, export, to string) []byte {
	const base, rva, page = 0x180000000, 0x1000, 0x200
	var table bytes.Buffer
	put := func(to *bytes.Buffer, parts ...any) {
		for _, part := range parts {
			_ = binary.Write(to, binary.LittleEndian, part) // a buffer takes all
		}
	}
	texts := library + "\x00" + export + "\x00" + to + "\x00"
	const head, addresses = 40, 10
	at := func(text string) uint32 { return uint32(rva + head + addresses + strings.Index(texts, text+"\x00")) }
	put(&table, uint32(0), uint32(0), uint32(0), at(library), uint32(1), uint32(1), uint32(1), uint32(rva+head), uint32(rva+head+4), uint32(rva+head+8))
	put(&table, at(to), at(export), uint16(0), []byte(texts))
	size := uint32(table.Len())

	optional := pe.OptionalHeader64{Magic: 0x20b, SizeOfInitializedData: page, ImageBase: base, SectionAlignment: 0x1000, FileAlignment: page, MajorOperatingSystemVersion: 6, MajorSubsystemVersion: 6,
		SizeOfImage: 0x2000, SizeOfHeaders: page, Subsystem: pe.IMAGE_SUBSYSTEM_WINDOWS_GUI, NumberOfRvaAndSizes: 16}
	optional.DataDirectory[pe.IMAGE_DIRECTORY_ENTRY_EXPORT] = pe.DataDirectory{VirtualAddress: rva, Size: size}
	section := pe.SectionHeader32{VirtualSize: size, VirtualAddress: rva, SizeOfRawData: page, PointerToRawData: page, Characteristics: pe.IMAGE_SCN_CNT_INITIALIZED_DATA | pe.IMAGE_SCN_MEM_READ}
	copy(section.Name[:], ".edata")
	file := bytes.NewBuffer(append([]byte("MZ"), make([]byte, 58)...))
	put(file, uint32(64), []byte("PE\x00\x00"), pe.FileHeader{Machine: pe.IMAGE_FILE_MACHINE_AMD64, NumberOfSections: 1, SizeOfOptionalHeader: uint16(binary.Size(optional)),
		Characteristics: pe.IMAGE_FILE_EXECUTABLE_IMAGE | pe.IMAGE_FILE_DLL | pe.IMAGE_FILE_LARGE_ADDRESS_AWARE}, optional, section)
	file.Write(make([]byte, page-file.Len()))
	file.Write(table.Bytes())
	file.Write(make([]byte, 2*page-file.Len()))
	return file.Bytes()
}

// wine is the program that runs Windows programs; "" where there is none.
func wine() string {
	for _, name := range []string{"wine64", "/usr/lib/wine/wine64", "wine"} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

// The Windows program runs: the lab, the settings that it reads from a registry, files, exit codes and an interruption.
func TestWindowsProgram(t *testing.T) {
	program := wine()
	if program == "" || runtime.GOARCH != "amd64" {
		t.Skip("skipped: it takes Wine on amd64")
	}
	folder := t.TempDir()
	unquil := filepath.Join(folder, "unquil.exe")
	build := exec.Command("go", "build", "-pgo=off", "-o", unquil, "unquil/cmd/unquil")
	build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	text, err := build.CombinedOutput()
	require.NoError(t, err, string(text))

	environ := append(os.Environ(), "WINEPREFIX="+filepath.Join(folder, "prefix"), "WINEDEBUG=-all", "WINEDLLOVERRIDES=mscoree,mshtml=", "UNQUIL_LAB=1", "NO_COLOR=1", "DISPLAY=")
	run := func(args ...string) (stdout, stderr string, code int) {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, program, args...)
		var out, errOut bytes.Buffer
		cmd.Env, cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.WaitDelay = environ, folder, &out, &errOut, 5*time.Second
		_ = cmd.Run() // the code tells
		return out.String(), errOut.String(), cmd.ProcessState.ExitCode()
	}
	run("wineboot", "--init")
	system := filepath.Join(folder, "prefix", "drive_c", "windows", "system32")
	if _, err := os.Stat(system); err != nil {
		t.Skip("skipped: Wine cannot be set up here")
	}
	// Random numbers come by a library that older versions of Wine lack.
	if missing := filepath.Join(system, "bcryptprimitives.dll"); !exists(missing) {
		require.NoError(t, os.WriteFile(missing, forwarding("bcryptprimitives.dll", "ProcessPrng", "advapi32.SystemFunction036"), 0o644))
	}
	for _, tt := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"version"}, 0, "windows/amd64"},
		{[]string{"ask", "www.hollowtarn.example", "--lab"}, 0, "203.0.113.120"},
		{[]string{"why", "tickets.hollowtarn.example", "--lab"}, 3, "tickets.hollowtarn.example"},
		{[]string{"decode", "valley-morning.pcapng", "--lab"}, 3, "exchanges"},
		{[]string{"ask", "nothing.hollowtarn.example", "--lab", "--save", "saved.json"}, 0, "no such name"},
		{[]string{"ask", "--nothing"}, 2, "there is no such option"},
		{[]string{"decode", "nowhere.pcap"}, 1, "nowhere.pcap"},
		{[]string{"local", "--lab"}, 0, "192.0.2.53"},
	} {
		stdout, stderr, code := run(append([]string{unquil}, tt.args...)...)
		assert.Equal(t, tt.code, code, "%v: %s%s", tt.args, stdout, stderr)
		assert.Contains(t, stdout+stderr, tt.want, "%v", tt.args)
	}
	saved, err := os.ReadFile(filepath.Join(folder, "saved.json"))
	require.NoError(t, err)
	assert.True(t, json.Valid(saved))

	t.Run("its own settings", func(t *testing.T) {
		if os.Getuid() != 0 || exec.Command("unshare", "-n", "-m", "sh", "-ec", "ip tuntap add eth7 mode tap").Run() != nil {
			t.Skip("skipped: it takes a namespace of the network of its own")
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, "resolv.conf"), []byte("nameserver 192.0.2.53\nsearch hollowtarn.example\n"), 0o644))
		hosts := filepath.Join(system, "drivers", "etc", "hosts")
		require.NoError(t, os.MkdirAll(filepath.Dir(hosts), 0o755))
		require.NoError(t, os.WriteFile(hosts, []byte("203.0.113.99 shop.hollowtarn.example\r\n"), 0o644))
		program, environ = "unshare", append(slices.DeleteFunc(slices.Clone(environ), func(s string) bool { return strings.HasPrefix(s, "UNQUIL_LAB=") }), "WINE="+program)
		stdout, stderr, code := run("-n", "-m", "sh", "-ec", `mount --bind "$0" /etc/resolv.conf
			ip link set lo up; ip tuntap add eth7 mode tap; ip addr add 192.0.2.10/24 dev eth7; ip link set eth7 up
			exec "$WINE" "$1" local shop.hollowtarn.example`, filepath.Join(folder, "resolv.conf"), unquil)
		assert.Equal(t, 3, code, stderr) // nobody answers there
		for _, want := range []string{"hosts file   1 line", "192.0.2.53", "over eth7 (the adapter)", "suffixes     hollowtarn.example", "203.0.113.99"} {
			assert.Contains(t, stdout, want)
		}
	})
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
