package view

import (
	"fmt"
	"strings"

	"github.com/gomarkdown/markdown/ast"
	"github.com/gomarkdown/markdown/parser"

	"catena/internal/text"
)

// Markdown writes a Markdown text for a terminal: headings, lists, quotes and code
// as they stand, links with their addresses. It comes from someone else: control
// characters go, pictures and HTML are left out.
func Markdown(source string, s Style) Painted {
	r := &renderer{style: s}
	r.blocks(parser.New().Parse([]byte(text.Harmless(source))), "")
	return Painted(strings.TrimRight(r.out.String(), "\n") + "\n")
}

type renderer struct {
	style Style
	out   strings.Builder
}

func (r *renderer) blocks(parent ast.Node, indent string) {
	number := 0
	if list, ok := parent.(*ast.List); ok && list.ListFlags&ast.ListTypeOrdered != 0 {
		number = max(1, list.Start)
	}
	for _, n := range parent.GetChildren() {
		switch n := n.(type) {
		case *ast.Heading:
			r.line(indent, string(r.style.Paint(Busy, r.inline(n))))
			r.out.WriteString("\n")
		case *ast.List:
			r.blocks(n, indent)
			if _, nested := parent.(*ast.ListItem); !nested {
				r.out.WriteString("\n")
			}
		case *ast.ListItem:
			mark := "• "
			if number > 0 {
				mark = fmt.Sprintf("%d. ", number)
				number++
			}
			item := renderer{style: r.style}
			item.blocks(n, "")
			first := indent + mark
			for line := range strings.SplitSeq(strings.TrimRight(item.out.String(), "\n"), "\n") {
				if line != "" {
					r.line(first, line)
				}
				first = indent + strings.Repeat(" ", len([]rune(mark)))
			}
		case *ast.BlockQuote:
			r.blocks(n, indent+"│ ")
		case *ast.CodeBlock:
			for line := range strings.Lines(string(n.Literal)) {
				r.line(indent+"    ", string(r.style.Paint(Quiet, strings.TrimRight(line, "\n"))))
			}
			r.out.WriteString("\n")
		case *ast.HorizontalRule:
			r.line(indent, strings.Repeat("─", 20))
		case *ast.HTMLBlock:
		default:
			r.line(indent, r.inline(n))
			r.out.WriteString("\n")
		}
	}
}

func (r *renderer) line(indent, s string) {
	for part := range strings.SplitSeq(s, "\n") {
		r.out.WriteString(strings.TrimRight(indent+part, " ") + "\n")
	}
}

func (r *renderer) inline(parent ast.Node) string {
	var b strings.Builder
	for _, n := range parent.GetChildren() {
		switch n := n.(type) {
		case *ast.Text:
			b.Write(n.Literal)
		case *ast.Code:
			b.Write(n.Literal)
		case *ast.Link:
			b.WriteString(r.inline(n) + " <" + string(n.Destination) + ">")
		case *ast.Emph, *ast.Strong:
			b.WriteString(string(r.style.Paint(Good, r.inline(n))))
		case *ast.Hardbreak, *ast.Softbreak:
			b.WriteString("\n")
		case *ast.HTMLSpan, *ast.Image:
		default:
			b.WriteString(r.inline(n))
		}
	}
	return b.String()
}
