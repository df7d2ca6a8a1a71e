package page

import (
	"fmt"
	"io"
	"reflect"
	"strings"

	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Markdown writes the report as a text.
func Markdown(w io.Writer, r *Report) error {
	var b strings.Builder
	line := func(format string, args ...any) {
		for i, arg := range args {
			if _, done := arg.(markup); !done && reflect.TypeOf(arg).Kind() == reflect.String {
				args[i] = quiet(fmt.Sprint(arg))
			}
		}
		fmt.Fprintf(&b, format+"\n", args...)
	}
	line("# %s\n", r.Headline)
	line("Made by Unquil %s on %s UTC.", r.Version, r.Made.UTC().Format("2006-01-02 15:04:05"))
	if r.Lab {
		line("It is about the simulated internet.")
	}
	if r.Redacted {
		line("%s.", markup(r.Replaced()))
	}
	switch {
	case r.Evidence == "":
	case r.Left > 0:
		line("The evidence packets are in %s; those of %s are not.", r.Evidence, wording.Count(r.Left, "more exchange", "more exchanges"))
	default:
		line("Every packet is in %s.", r.Evidence)
	}
	for i := range r.Verdicts {
		v := &r.Verdicts[i]
		subject := quiet(v.Subject())
		if len(v.Cause) == 0 {
			line("\n## Nothing wrong: %s\n\n%s. %s", subject, v.Text, v.Next)
		} else {
			line("\n## %s: %s\n\n**%s**\n", v.Severity, subject, v.Text)
			line("- where: %s\n- why: %s: %s\n- how sure: %s: %s", whereWords(*v), v.Cause[0].Code, v.Cause[0].Code.Meaning(), v.Sure, v.Because)
			if v.Against != "" {
				line("- but: %s", v.Against)
			}
			if v.Elsewhere != "" {
				line("- elsewhere: %s", v.Elsewhere)
			}
			line("- who can fix it: %s\n- what to do: %s", v.Who, v.Next)
			if v.Lasts > 0 {
				line("- until: it ends by itself within %s", wire.Period(v.Lasts))
			}
			line("- evidence: %s", wording.Exchanges(v.Evidence()))
		}
		line("\n| state | check | result |\n|---|---|---|")
		told := v.Told()
		for _, c := range told.Checks {
			line("| %s | %s | %s |", c.State.Word(), c.What, c.Saw)
		}
		if told.More > 0 {
			line("\nand %d more", told.More)
		}
	}
	if len(r.Findings) > 0 {
		line("\n## Findings\n")
		for _, f := range r.Findings {
			line("- **%s** %s (%s; %s)", f.Severity, f.Text, f.Code, wording.Exchanges(f.Evidence))
			if f.Severity != finding.Note {
				line("  next: %s", f.Next)
			}
		}
	}
	for _, walk := range r.allWalks() {
		line("\n## The way to %s\n\n%s.\n", walk.Question.Spoken(), walk.Summary())
		for depth, s := range walk.Steps {
			title := quiet(s.Zone.Spoken())
			if s.Chosen == nil {
				title += ": **it stops here**"
			}
			line("%s- %s", markup(strings.Repeat("  ", depth)), title)
			for _, reply := range s.Replies {
				words := stances[reply.Stance]
				if words == "" && reply.Exchange != nil {
					words = said(reply.Exchange)
				}
				who := quiet(reply.Host.Spoken())
				if reply.Address.IsValid() {
					who += markup(" " + reply.Address.String())
				}
				line("%s- %s: %s", markup(strings.Repeat("  ", depth+1)), who, words)
			}
		}
	}
	for _, t := range r.allTables() {
		row := func(cells []string) {
			var shown markup
			for _, cell := range cells {
				shown += " " + quiet(cell) + " |"
			}
			line("|%s", shown)
		}
		line("\n## %s\n", t.Title)
		row(t.Columns)
		line("|%s", markup(strings.Repeat("---|", len(t.Columns))))
		for _, cells := range t.Rows {
			row(cells)
		}
	}
	if len(r.Exchanges) > 0 {
		line("\n## Exchanges\n\n| number | server | question | result | took |\n|---|---|---|---|---|")
		p := newPage(r)
		for _, e := range p.Chosen {
			line("| %d | %s | %s | %s | %s |", e.Number, e.Server.Name(), e.Question.Spoken(), said(e), took(e))
		}
		if p.NotIn > 0 {
			line("\n%s not shown here.", wording.Count(p.NotIn, "more is", "more are"))
		}
	}
	line("\n## How this was made\n\n`%s`", markup(strings.NewReplacer("`", "'", "\n", " ").Replace(r.Command)))
	_, err := io.WriteString(w, b.String())
	return err
}

// markup is text in Markdown; whatever else is put into a line is made quiet there.
type markup string

// quiet keeps text from meaning anything in Markdown or HTML: no emphasis, no link, no
// list, no entity.
func quiet(text string) markup {
	quoted := marks.Replace(text)
	if text != "" && strings.ContainsRune("-+=", rune(text[0])) {
		quoted = "\\" + quoted
	}
	return markup(quoted)
}

// marks are what means something anywhere in a line. The links that readers make by
// themselves of what looks like one are broken by a backslash too.
var marks = strings.NewReplacer("\\", "\\\\", "|", "\\|", "*", "\\*", "_", "\\_", "`", "\\`", "~", "\\~", "$", "\\$", "@", "\\@",
	"<", "&lt;", ">", "&gt;", "&", "&amp;", "[", "\\[", "]", "\\]", "#", "\\#", "\n", " ", "://", ":\\//", "www.", "www\\.", "WWW.", "WWW\\.")
