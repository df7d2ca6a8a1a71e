// Package engines holds the tables that decode writes against others that read them: an SQL engine, which runs the
// queries of docs/at-scale.md, and an independent reader of Parquet.
package engines

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const root = "../.."

// output is what a program writes, and fails the test where it cannot be run.
func output(t *testing.T, codes string, name string, args ...string) []byte {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir = root
	cmd.Env = append(os.Environ(), "UNQUIL_LAB=1")
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	out, _ := cmd.Output()
	require.Contains(t, codes, strconv.Itoa(cmd.ProcessState.ExitCode()), "%s %v: %s", name, args, stderr.String())
	return out
}

// summary is what decode says of a capture.
type summary struct {
	Exchanges int
	Outcomes  map[string]int
	Servers   struct {
		Rows []struct {
			Key string
			Counts
		}
	}
}

// Counts are those of a row.
type Counts struct {
	Exchanges  int     `json:"exchanges"`
	Failed     int     `json:"failed"`
	Unanswered int     `json:"unanswered"`
	NoName     int     `json:"no_name"`
	Median     float64 `json:"median"`
	Longest    float64 `json:"longest"`
}

func TestTables(t *testing.T) {
	folder := t.TempDir()
	unquil, capture, table := filepath.Join(folder, "unquil"), filepath.Join(folder, "varied.pcap"), filepath.Join(folder, "exchanges")
	output(t, "0", "go", "build", "-o", unquil, "./cmd/unquil")
	output(t, "0", "go", "run", "./lab/generate", "--varied", "300000", capture)
	output(t, "3", unquil, "decode", capture, "--to", table, "--split", "1h,10MB")
	lines := bytes.Split(bytes.TrimSpace(output(t, "3", unquil, "decode", capture, "--json", "--view", "servers")), []byte("\n"))
	var last struct{ Summary summary }
	require.NoError(t, json.Unmarshal(lines[len(lines)-1], &last))
	rows, err := csv.NewReader(bytes.NewReader(output(t, "3", unquil, "decode", capture, "--csv"))).ReadAll()
	require.NoError(t, err)
	rows = rows[1:]
	require.Len(t, rows, last.Summary.Exchanges)
	parts, err := filepath.Glob(filepath.Join(table, "date=*", "hour=*", "*.parquet"))
	require.NoError(t, err)
	require.NotEmpty(t, parts)

	t.Run("an independent reader", func(t *testing.T) { reads(t, parts, rows) })
	t.Run("an SQL engine", func(t *testing.T) { queries(t, table, last.Summary, rows) })
}

// reads has every column of every file read, and holds what is in them against the CSV.
func reads(t *testing.T, parts []string, want [][]string) {
	byNumber := map[string][]string{}
	for _, row := range want {
		byNumber[row[0]] = row
	}
	for _, part := range parts {
		reader, err := file.OpenParquetFile(part, false)
		require.NoError(t, err)
		defer reader.Close()
		for i := range reader.NumRowGroups() {
			group := reader.MetaData().RowGroup(i)
			assert.Equal(t, 1, len(group.SortingColumns()), "sorted by time")
			column, err := group.ColumnChunk(0)
			require.NoError(t, err)
			set, err := column.StatsSet()
			require.NoError(t, err)
			assert.True(t, set, "it has statistics")
		}
		all, err := pqarrow.NewFileReader(reader, pqarrow.ArrowReadProperties{}, memory.DefaultAllocator)
		require.NoError(t, err)
		read, err := all.ReadTable(context.Background())
		require.NoError(t, err)
		assert.Equal(t, 35, int(read.NumCols()))
		columns := map[string]arrow.Array{}
		for i := range int(read.NumCols()) {
			column := read.Column(i)
			whole, err := array.Concatenate(column.Data().Chunks(), memory.DefaultAllocator)
			require.NoError(t, err)
			require.Equal(t, int(read.NumRows()), whole.Len(), column.Name())
			columns[column.Name()] = whole
		}
		previous := int64(0)
		for i := range int(read.NumRows()) {
			row := byNumber[columns["number"].ValueStr(i)]
			require.NotNil(t, row)
			delete(byNumber, row[0])
			at := int64(columns["time"].(*array.Timestamp).Value(i))
			if i%(1<<16) == 0 {
				previous = 0
			}
			require.GreaterOrEqual(t, at, previous)
			previous = at
			for name, cell := range map[string]string{"client": row[2], "client_port": row[3], "server": row[4], "server_port": row[5], "transport": row[6], "name": row[7], "type": row[8], "outcome": row[9], "attempts": row[11]} {
				require.Equal(t, cell, columns[name].ValueStr(i), name)
			}
			if latency := columns["latency_ns"].(*array.Int64); latency.IsValid(i) {
				require.Equal(t, row[10], fmt.Sprintf("%.6f", float64(latency.Value(i))/1e9))
			}
		}
	}
	assert.Empty(t, byNumber, "each exchange is in one row")
}

// queries runs the statements of the page, as somebody would who pastes them.
func queries(t *testing.T, table string, want summary, rows [][]string) {
	packages := os.Getenv("UNQUIL_ENGINES")
	if packages == "" {
		packages = filepath.Join(os.TempDir(), "unquil-engines")
	}
	if _, err := os.Stat(filepath.Join(packages, "node_modules", "@duckdb")); err != nil {
		t.Skip("skipped: no SQL engine is installed: npm install --prefix", packages, "@duckdb/node-api")
	}
	page, err := os.ReadFile(filepath.Join(root, "docs", "at-scale.md"))
	require.NoError(t, err)
	var statements []string
	named := map[string]int{}
	for i, part := range strings.Split(string(page), "```sql\n") {
		if i > 0 {
			statement, _, _ := strings.Cut(part, "\n```")
			title, _, _ := strings.Cut(strings.TrimPrefix(statement, "-- "), "\n")
			named[title] = len(statements)
			statements = append(statements, strings.ReplaceAll(statement, "/data/exchanges", table))
		}
	}
	require.Len(t, statements, 9)
	input, err := json.Marshal(statements)
	require.NoError(t, err)
	cmd := exec.Command("node", "query.mjs", packages)
	var stderr bytes.Buffer
	cmd.Stdin, cmd.Stderr = bytes.NewReader(input), &stderr
	text, err := cmd.Output()
	require.NoError(t, err, stderr.String())
	var results [][]map[string]any
	decoder := json.NewDecoder(bytes.NewReader(text))
	require.NoError(t, decoder.Decode(&results))
	of := func(title string) []map[string]any { return results[named[title]] }
	number := func(v any) float64 {
		n, err := strconv.ParseFloat(fmt.Sprint(v), 64)
		require.NoError(t, err)
		return n
	}

	outcomes := map[string]int{}
	for _, row := range of("outcomes") {
		outcomes[row["outcome"].(string)] = int(number(row["exchanges"]))
	}
	assert.Equal(t, want.Outcomes, outcomes)

	servers := map[string]Counts{}
	for _, row := range of("servers") {
		server, port := row["server"].(string), int(number(row["server_port"]))
		require.Equal(t, 53, port)
		servers[server] = Counts{Exchanges: int(number(row["exchanges"])), Failed: int(number(row["failed"])), Unanswered: int(number(row["unanswered"])), NoName: int(number(row["no_name"]))}
	}
	require.Len(t, servers, len(want.Servers.Rows))
	for _, row := range want.Servers.Rows {
		got := servers[row.Key]
		row.Median, row.Longest = 0, 0
		assert.Equal(t, row.Counts, got, row.Key)
	}
	seen := map[string]bool{}
	for _, row := range of("latency") {
		for _, server := range want.Servers.Rows {
			if server.Key == row["server"] {
				seen[server.Key] = true
				assert.InEpsilon(t, server.Median*1e3, number(row["median_ms"]), 0.05, server.Key)
				assert.InEpsilon(t, server.Longest*1e3, number(row["longest_ms"]), 0.0001, server.Key)
			}
		}
	}
	assert.Len(t, seen, len(want.Servers.Rows))

	// What decode does not count by itself is counted by hand, from its CSV.
	type name struct{ name, of string }
	clients, paths := map[name]map[string]bool{}, 0
	for _, row := range rows {
		if row[9] == "no-reply" {
			paths++
		}
		if row[9] == "no-reply" || row[9] == "server-failure" {
			key := name{row[7], row[8]}
			if clients[key] == nil {
				clients[key] = map[string]bool{}
			}
			clients[key][row[2]] = true
		}
	}
	require.NotEmpty(t, of("names"))
	for _, row := range of("names") {
		assert.Equal(t, len(clients[name{row["name"].(string), row["type"].(string)}]), int(number(row["clients"])))
	}
	unanswered := 0
	for _, row := range of("paths") {
		unanswered += int(number(row["unanswered"]))
	}
	assert.Equal(t, paths, unanswered)
	assert.NotEmpty(t, of("floods"))
	assert.NotEmpty(t, of("findings"))
	for _, row := range of("second resolver") {
		assert.NotEqual(t, row["before_server"], row["server"])
	}
}
