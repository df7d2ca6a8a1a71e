package session

import (
	"bufio"
	"io"
	"slices"
	"unicode"
)

// maxEarlier is how many earlier lines are remembered, and maxLine how long one may be.
const (
	maxEarlier = 1_000
	maxLine    = 1 << 16
)

// ReadHistory reads the lines of earlier sessions, the oldest first. What no keyboard types is
// left out: the file may have been changed.
func ReadHistory(r io.Reader) (lines []string) {
	in := bufio.NewScanner(r)
	in.Buffer(nil, maxLine)
	for in.Scan() {
		lines = remember(lines, in.Text())
	}
	return lines
}

// remember adds a line, unless it is empty or the last one again.
func remember(lines []string, line string) []string {
	if line == "" || len(lines) > 0 && lines[len(lines)-1] == line || slices.ContainsFunc([]rune(line), func(r rune) bool { return !unicode.IsPrint(r) }) {
		return lines
	}
	lines = append(lines, line)
	return lines[max(len(lines)-maxEarlier, 0):]
}
