package text

// Help is what there is to say about how a command is called.
type Help struct {
	About      string   // a line or a few
	Paragraphs []string // that tell more
	Usage      []string // command lines with placeholders
	Examples   []string // command lines that can be typed
	Lists      []HelpList
	More       string
}

// HelpList is a list of words, each with its meaning: commands, or options.
type HelpList struct {
	Title string
	Rows  [][2]string
}

// Help draws how a command is called. A word too long for its column has the line to
// itself.
func (v *View) Help(h Help) {
	v.flow("", 0, h.About, plainStyle)
	for _, p := range h.Paragraphs {
		v.line()
		v.flow("", 0, p, plainStyle)
	}
	v.helpLines("how to call it", h.Usage)
	v.helpLines("examples", h.Examples)
	for _, list := range h.Lists {
		v.line()
		v.line(strong.Render(list.Title))
		column := 0
		for _, row := range list.Rows {
			if size := len(row[0]) + 4; size <= 26 {
				column = max(column, size)
			}
		}
		for _, row := range list.Rows {
			word := "  " + subject.Render(row[0])
			if len(row[0])+4 > column {
				v.line(word)
				word = ""
			}
			v.flow(word, column, row[1], plainStyle)
		}
	}
	if h.More != "" {
		v.line()
		v.flow("", 0, h.More, quiet)
	}
}

func (v *View) helpLines(title string, lines []string) {
	if len(lines) == 0 {
		return
	}
	v.line()
	v.line(strong.Render(title))
	for _, line := range lines {
		v.flow("  ", 4, line, plainStyle)
	}
}
