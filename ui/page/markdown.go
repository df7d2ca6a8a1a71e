package page

import (
	_ "embed"
	"fmt"
	"io"
	"strings"
	"sync"
	"text/template"
	"text/template/parse"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/core/wording"
)

//go:embed report.md
var markdownLayout string

// markdown is the layout, every value of which is made quiet where it is put in.
var markdown = sync.OnceValue(func() *template.Template {
	t := template.Must(template.New("report").Funcs(template.FuncMap{
		"where": whereWords, "took": took, "clock": clock, "period": wire.Period, "said": said, "plural": wording.Count, "exchanges": wording.Exchanges,
		"stance": stanceWords, "quiet": quiet, "code": code,
		"indent": func(depth int) markup { return markup(strings.Repeat("  ", depth)) },
	}).Parse(markdownLayout))
	quieten(t.Root)
	return t
})

// Markdown writes the report as a text. What HTML draws, it lists.
func Markdown(w io.Writer, r *Report) error { return markdown().Execute(w, newPage(r)) }

// Shown are the exchanges whose messages are listed in a text, byte by byte: the evidence.
func (p *page) Shown() (all []*exchange.Exchange) {
	for _, e := range p.Chosen {
		if p.evidence[e.Number] {
			all = append(all, e)
		}
	}
	return all
}

// AllWalks are those of the run and those of its verdicts and comparisons.
func (p *page) AllWalks() []*delegation.Walk { return p.allWalks() }

// AllTables are a matrix for each comparison, and the run's own.
func (p *page) AllTables() []Table { return p.allTables() }

// stanceWords say what a server of a walk replied.
func stanceWords(r *delegation.Reply) string {
	if words := stances[r.Stance]; words != "" || r.Exchange == nil {
		return words
	}
	return said(r.Exchange)
}

// quieten has every value that a layout prints pass through quiet.
func quieten(node parse.Node) {
	switch node := node.(type) {
	case *parse.ListNode:
		if node != nil {
			for _, n := range node.Nodes {
				quieten(n)
			}
		}
	case *parse.ActionNode:
		node.Pipe.Cmds = append(node.Pipe.Cmds, &parse.CommandNode{NodeType: parse.NodeCommand, Args: []parse.Node{parse.NewIdentifier("quiet")}})
	case *parse.IfNode:
		quieten(node.List)
		quieten(node.ElseList)
	case *parse.RangeNode:
		quieten(node.List)
		quieten(node.ElseList)
	case *parse.WithNode:
		quieten(node.List)
		quieten(node.ElseList)
	}
}

// markup is text in Markdown; whatever else is put into a layout is made quiet there.
type markup string

// quiet keeps a value from meaning anything in Markdown or HTML: no emphasis, no link, no
// list, no entity.
func quiet(value any) markup {
	if done, ok := value.(markup); ok {
		return done
	}
	text := fmt.Sprint(value)
	quoted := marks.Replace(text)
	if text != "" && strings.ContainsRune("-+=", rune(text[0])) {
		quoted = "\\" + quoted
	}
	return markup(quoted)
}

// code keeps text within the quotes of code.
func code(text string) markup { return markup(strings.NewReplacer("`", "'", "\n", " ").Replace(text)) }

// marks are what means something anywhere in a line. The links that readers make by
// themselves of what looks like one are broken by a backslash too.
var marks = strings.NewReplacer("\\", "\\\\", "|", "\\|", "*", "\\*", "_", "\\_", "`", "\\`", "~", "\\~", "$", "\\$", "@", "\\@",
	"<", "&lt;", ">", "&gt;", "&", "&amp;", "[", "\\[", "]", "\\]", "#", "\\#", "\n", " ", "://", ":\\//", "www.", "www\\.", "WWW.", "WWW\\.")
