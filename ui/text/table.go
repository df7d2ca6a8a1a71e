package text

import (
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
)

// column is one column of a table.
type column struct {
	title string
	width int
	right bool // its words stand at its right edge
}

// grid lays rows out in columns, one line each. What is too wide for its column is cut.
func grid(columns []column, rows [][]string) []string {
	for _, row := range rows {
		for i, word := range row {
			row[i] = cut(word, columns[i].width)
		}
	}
	t := table.New().Border(lipgloss.HiddenBorder()).BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).
		BorderColumn(false).BorderHeader(false).BorderRow(false).Wrap(false).Rows(rows...).
		StyleFunc(func(_, col int) lipgloss.Style {
			style := lipgloss.NewStyle().Width(columns[col].width)
			if columns[col].right {
				style = style.Align(lipgloss.Right)
			}
			return style
		})
	return strings.Split(t.String(), "\n")
}

// fitting are the places of the columns that fit a width: those that can be done without go, in the order given, until
// the others do.
func fitting(columns []column, width int, least ...int) (places []int) {
	for at, c := range columns {
		places, width = append(places, at), width-c.width
	}
	for _, at := range least {
		if width < 0 {
			places, width = slices.DeleteFunc(places, func(c int) bool { return c == at }), width+columns[at].width
		}
	}
	return places
}

// chosen are those of some values that stand at the given places.
func chosen[T any](all []T, places []int) (some []T) {
	for _, at := range places {
		some = append(some, all[at])
	}
	return some
}

// titles are the headings of columns, as a row.
func titles(columns []column) []string {
	row := make([]string, len(columns))
	for i, c := range columns {
		row[i] = quiet.Render(c.title)
	}
	return row
}
