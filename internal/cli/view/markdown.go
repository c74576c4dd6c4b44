package view

import (
	"fmt"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/text"

	"catena/internal/site"
)

// Markdown writes a Markdown text for a terminal: headings, lists, quotes and code
// as they stand, links with their addresses. It comes from somebody else: control
// characters go, pictures and HTML are left out.
func Markdown(source string, s Style) string {
	src := []byte(site.Harmless(source))
	r := &renderer{src: src, style: s}
	r.blocks(goldmark.DefaultParser().Parse(text.NewReader(src)), "")
	return strings.TrimRight(r.out.String(), "\n") + "\n"
}

type renderer struct {
	src   []byte
	style Style
	out   strings.Builder
}

func (r *renderer) blocks(parent ast.Node, indent string) {
	number := 0
	if list, ok := parent.(*ast.List); ok && list.IsOrdered() {
		number = list.Start
	}
	for n := parent.FirstChild(); n != nil; n = n.NextSibling() {
		switch n := n.(type) {
		case *ast.Heading:
			r.line(indent, r.style.Paint(Busy, r.inline(n)))
			r.out.WriteString("\n")
		case *ast.List:
			r.blocks(n, indent)
			if n.Parent() == nil || n.Parent().Kind() == ast.KindDocument {
				r.out.WriteString("\n")
			}
		case *ast.ListItem:
			mark := "• "
			if number > 0 {
				mark = fmt.Sprintf("%d. ", number)
				number++
			}
			var item renderer
			item.src, item.style = r.src, r.style
			item.blocks(n, "")
			for i, line := range strings.Split(strings.TrimRight(item.out.String(), "\n"), "\n") {
				if i == 0 {
					r.line(indent+mark, line)
				} else {
					r.line(indent+strings.Repeat(" ", len([]rune(mark))), line)
				}
			}
		case *ast.Blockquote:
			r.blocks(n, indent+"│ ")
		case *ast.CodeBlock, *ast.FencedCodeBlock:
			for i := range n.Lines().Len() {
				at := n.Lines().At(i)
				r.line(indent+"    ", r.style.Paint(Quiet, strings.TrimRight(string(at.Value(r.src)), "\n")))
			}
			r.out.WriteString("\n")
		case *ast.ThematicBreak:
			r.line(indent, strings.Repeat("─", 20))
		case *ast.HTMLBlock:
		case *ast.TextBlock:
			r.line(indent, r.inline(n))
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
	for n := parent.FirstChild(); n != nil; n = n.NextSibling() {
		switch n := n.(type) {
		case *ast.Text:
			b.Write(n.Value(r.src))
			if n.HardLineBreak() || n.SoftLineBreak() {
				b.WriteString("\n")
			}
		case *ast.Link:
			b.WriteString(r.inline(n) + " <" + string(n.Destination) + ">")
		case *ast.AutoLink:
			b.WriteString("<" + string(n.URL(r.src)) + ">")
		case *ast.Emphasis:
			b.WriteString(r.style.Paint(Good, r.inline(n)))
		case *ast.RawHTML, *ast.Image:
		default:
			b.WriteString(r.inline(n))
		}
	}
	return b.String()
}
