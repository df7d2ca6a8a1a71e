package wording

import "strings"

// Nearest is the one of some words that a misspelled one stands for: the one that takes the fewest letters to be
// changed, added, left out or swapped with the next, up to one in three; "" where none is that near, or the word
// is one of them.
func Nearest(word string, among []string) string {
	word = strings.ToLower(word)
	best, least := "", (len(word)+2)/3+1
	for _, known := range among {
		switch apart := distance(word, strings.ToLower(known), least); {
		case apart == 0:
			return ""
		case apart < least:
			best, least = known, apart
		}
	}
	return best
}

// distance is how many letters two words differ by; at least limit where that is more.
func distance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit || len(a) > maxWord {
		return limit
	}
	// Three rows of the table of distances between the beginnings of both.
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := range len(a) {
		row[0] = i + 1
		for j := range len(b) {
			change := last[j]
			if a[i] != b[j] {
				change++
			}
			row[j+1] = min(change, last[j+1]+1, row[j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}

// maxWord is the size of the longest word that is compared.
const maxWord = 64

// OrNearest says what a misspelled word may stand for: "", or a question to put behind a sentence.
func OrNearest(word string, among []string) string {
	if near := Nearest(word, among); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}
