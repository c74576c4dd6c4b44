package report

import (
	"bytes"
	"encoding/base64"
	"image"
	"image/draw"
	_ "image/jpeg" // logos and photographs
	"image/png"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
)

// Sizes on an A4 page (210 x 297 mm), in millimetres.
const (
	margin    = 16.0
	pageWidth = 210 - 2*margin
	bottom    = 297 - 18.0
	lineAt9   = 4.4 // the height of a line of 9 points
)

// font is the name that the document has for its font: Latin, Greek and Cyrillic.
const font = "go"

// pages writes a document.
type pages struct {
	*fpdf.Fpdf
	texts Texts
}

// PDF writes the edition as a document of A4 pages with numbers.
func (c Customer) PDF(w io.Writer, made time.Time) error {
	p := pages{fpdf.New("P", "mm", "A4", ""), c.texts}
	p.SetCreationDate(made)
	p.SetModificationDate(made)
	p.SetCatalogSort(true) // the same report is the same file
	p.AddUTF8FontFromBytes(font, "", goregular.TTF)
	p.AddUTF8FontFromBytes(font, "B", gobold.TTF)
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, 297-bottom)
	p.SetTitle(plainText(c.Site+": "+c.Title), true)
	p.SetLang(c.texts.Say("language"))
	p.AliasNbPages("{p}") // as wide as a number
	p.SetFooterFunc(func() {
		p.SetY(-12)
		p.text("", 8, 100)
		p.CellFormat(pageWidth/2, 5, plainText(c.Site), "", 0, "L", false, 0, "")
		page := c.texts.Say("page", "page", p.PageNo(), "pages", "{p}")
		p.CellFormat(pageWidth/2, 5, page, "", 0, "R", false, 0, "")
	})
	p.AddPage()
	p.picture("logo", c.logo, 210-margin-40, margin, 40, 18, false)
	p.text("B", 18, 30)
	p.MultiCell(pageWidth-44, 8, plainText(c.Site), "", "L", false)
	p.text("", 10, 100)
	p.MultiCell(pageWidth-44, 5, plainText(c.Title+". "+c.Made), "", "L", false)
	p.text("", 10, 30)
	if c.Note != "" {
		p.MultiCell(pageWidth, 5, plainText(c.Note), "", "L", false)
	}
	p.heading(c.texts.Say("summary"))
	p.text("", 11, 30)
	p.MultiCell(pageWidth, 5.5, plainText(c.Summary), "", "L", false)
	p.devices(c)
	p.works(c)
	p.notes(c)
	p.rest(c)
	p.sign()
	return p.Output(w)
}

// text sets the style, size in points and grey of what follows.
func (p pages) text(style string, size float64, grey int) {
	p.SetFont(font, style, size)
	p.SetTextColor(grey, grey, grey)
}

// heading starts a part; it stays on the page of the lines below it.
func (p pages) heading(text string) {
	if p.GetY() > bottom-30 {
		p.AddPage()
	}
	p.Ln(5)
	p.text("B", 12, 30)
	p.CellFormat(pageWidth, 7, plainText(text), "B", 1, "L", false, 0, "")
	p.Ln(1.5)
}

// devices are the visits, and the devices of the work.
func (p pages) devices(c Customer) {
	t := c.texts.Say
	if len(c.Visits) > 0 {
		p.heading(t("visits"))
		var rows [][]string
		for _, d := range c.Visits {
			place := d.Place
			if place == "" {
				place = t("unknown_place")
			}
			rows = append(rows, []string{place, d.Name, d.Model, d.Serial, d.Why})
		}
		p.table([]float64{36, 30, 22, 30, 60}, []string{t("place"), t("device"), t("model"), t("serial"),
			t("why")}, rows)
	}
	p.heading(t("devices"))
	var rows [][]string
	for _, d := range c.Devices {
		result := d.Result
		if d.Why != "" {
			result += ". " + d.Why
		}
		serial := strings.TrimSpace(d.Serial + " " + d.Fields)
		rows = append(rows, []string{d.Place, d.Name, d.Model, serial, d.Was, d.Is, result})
	}
	p.table([]float64{32, 27, 19, 27, 18, 18, 37}, []string{t("place"), t("device"), t("model"),
		t("serial"), t("was"), t("is"), t("result")}, rows)
}

// works are when the work was done, under which precautions, and what was checked afterwards.
func (p pages) works(c Customer) {
	t := c.texts.Say
	p.heading(t("work"))
	for _, w := range c.Works {
		line := w.Time
		if w.Note != "" {
			line += ": " + w.Note
		}
		p.paragraph(line)
		if w.Signed != "" {
			p.paragraph(w.Signed)
		}
		if len(w.Precautions) > 0 {
			p.paragraph(t("precautions"))
			p.list(w.Precautions)
		}
		if len(w.Checks) > 0 {
			p.heading(t("checks"))
			var rows [][]string
			for _, x := range w.Checks {
				rows = append(rows, []string{x.Text, x.Result})
			}
			p.table([]float64{118, 60}, []string{t("check"), t("result")}, rows)
		}
	}
}

// notes are the remarks about devices, with their photographs.
func (p pages) notes(c Customer) {
	first := true
	for i, d := range c.Devices {
		for j, n := range d.Notes {
			if first {
				p.heading(c.texts.Say("notes"))
				first = false
			}
			p.paragraph(d.Name + ": " + n.Text + " (" + n.By + ", " + n.At + ")")
			if n.picture != "" {
				if p.GetY() > bottom-62 {
					p.AddPage()
				}
				p.picture(
					"photo"+strconv.Itoa(i)+"-"+strconv.Itoa(j),
					n.picture,
					margin,
					p.GetY()+1,
					80,
					58,
					true,
				)
			}
		}
	}
}

// rest are the devices that were not part of the work, and the comparison with the customer's list.
func (p pages) rest(c Customer) {
	t := c.texts.Say
	if len(c.Others) > 0 || c.UpToDate != "" {
		p.heading(t("others"))
	}
	if c.UpToDate != "" {
		p.paragraph(c.UpToDate)
	}
	if len(c.Others) > 0 {
		var rows [][]string
		for _, d := range c.Others {
			rows = append(rows, []string{d.Place, d.Name, d.Model, d.Serial, d.Is, d.Result})
		}
		p.table([]float64{36, 30, 20, 30, 20, 42}, []string{t("place"), t("device"), t("model"),
			t("serial"), t("is"), t("why")}, rows)
	}
	for _, x := range []struct {
		title string
		of    []Listed
	}{{t("missing"), c.Missing}, {t("unlisted"), c.Unlisted}} {
		if len(x.of) == 0 {
			continue
		}
		p.heading(x.title)
		var lines []string
		for _, l := range x.of {
			line := strings.Join(strings.Fields(l.Name+" "+l.Model+" "+l.Serial), " ")
			if l.Place != "" {
				line += ", " + l.Place
			}
			lines = append(lines, line)
		}
		p.list(lines)
	}
}

// sign are the lines on which both sides sign; they stay together.
func (p pages) sign() {
	t := p.texts.Say
	if p.GetY() > bottom-62 {
		p.AddPage()
	}
	p.heading(t("sign"))
	half := pageWidth/2 - 4
	p.text("", 10, 30)
	y := p.GetY()
	for side, who := range []string{t("sign_us"), t("sign_you")} {
		x := margin + float64(side)*(half+8)
		p.SetXY(x, y)
		p.text("", 10, 30)
		p.CellFormat(half, 6, plainText(who), "", 0, "L", false, 0, "")
		for i, what := range []string{t("sign_name"), t("sign_date"), t("sign_signature")} {
			at := y + 18 + float64(i)*13
			p.Line(x, at, x+half, at)
			p.SetXY(x, at)
			p.text("", 8, 100)
			p.CellFormat(half, 4, plainText(what), "", 0, "L", false, 0, "")
		}
	}
}

func (p pages) paragraph(text string) {
	p.text("", 9, 30)
	p.MultiCell(pageWidth, lineAt9, plainText(text), "", "L", false)
	p.Ln(1)
}

func (p pages) list(lines []string) {
	p.text("", 9, 30)
	for _, l := range lines {
		p.SetX(margin + 2)
		p.CellFormat(4, lineAt9, "\u2022", "", 0, "L", false, 0, "")
		p.MultiCell(pageWidth-6, lineAt9, plainText(l), "", "L", false)
	}
	p.Ln(1)
}

// table draws rows whose cells are wrapped; its headings are repeated on each page. widths are in
// millimetres, together pageWidth.
// A column without any text is left out, and the last one gets its width.
func (p pages) table(widths []float64, headings []string, rows [][]string) {
	for i := len(widths) - 2; i >= 0; i-- {
		if slices.ContainsFunc(rows, func(r []string) bool { return r[i] != "" }) {
			continue
		}
		widths[len(widths)-1] += widths[i]
		widths, headings = slices.Delete(widths, i, i+1), slices.Delete(headings, i, i+1)
		for n := range rows {
			rows[n] = slices.Delete(rows[n], i, i+1)
		}
	}
	p.row(widths, headings, "B")
	for _, r := range rows {
		if p.GetY()+p.height(widths, r, "") > bottom {
			p.AddPage()
			p.row(widths, headings, "B")
		}
		p.row(widths, r, "")
	}
}

// height is how high a row is, in millimetres.
func (p pages) height(widths []float64, cells []string, style string) float64 {
	p.text(style, 8.5, 30)
	most := 1
	for i, cell := range cells {
		most = max(most, len(p.SplitText(plainText(cell), widths[i]-1.5)))
	}
	return float64(most)*lineAt9*0.92 + 1.6
}

func (p pages) row(widths []float64, cells []string, style string) {
	high := p.height(widths, cells, style)
	x, y := margin, p.GetY()
	grey := 30
	if style != "" {
		grey = 100
	}
	for i, cell := range cells {
		p.text(style, 8.5, grey)
		for n, line := range p.SplitText(plainText(cell), widths[i]-1.5) {
			p.SetXY(x, y+0.8+float64(n)*lineAt9*0.92)
			p.CellFormat(widths[i], lineAt9, line, "", 0, "L", false, 0, "")
		}
		x += widths[i]
	}
	p.SetDrawColor(200, 207, 212)
	p.Line(margin, y+high, margin+pageWidth, y+high)
	p.SetDrawColor(30, 30, 30)
	p.SetXY(margin, y+high)
}

// maxPixels bounds a picture that is decoded.
const maxPixels = 16 << 20

// picture places a picture within a box; below, the text continues under it. One that is not PNG or
// JPEG is left out.
func (p pages) picture(name, dataURL string, x, y, wide, high float64, below bool) {
	_, encoded, is := strings.Cut(dataURL, ";base64,")
	raw, err := base64.StdEncoding.DecodeString(encoded)
	if !is || err != nil {
		return
	}
	size, _, err := image.DecodeConfig(bytes.NewReader(raw))
	if err != nil || size.Width < 1 || size.Height < 1 || size.Width*size.Height > maxPixels {
		return
	}
	decoded, _, err := image.Decode(bytes.NewReader(raw))
	if err != nil {
		return
	}
	var b bytes.Buffer // in a form that the document takes, whatever it was
	if err := png.Encode(&b, flat(decoded)); err != nil {
		return
	}
	scale := min(wide/float64(size.Width), high/float64(size.Height))
	w, h := float64(size.Width)*scale, float64(size.Height)*scale
	if !below {
		x += wide - w
	}
	p.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: "PNG"}, &b)
	p.ImageOptions(name, x, y, w, h, false, fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
	if below {
		p.SetY(y + h + 2)
	}
}

// flat is a picture with 8 bits for each colour, on white.
func flat(i image.Image) image.Image {
	out := image.NewRGBA(image.Rect(0, 0, i.Bounds().Dx(), i.Bounds().Dy()))
	draw.Draw(out, out.Bounds(), image.White, image.Point{}, draw.Src)
	draw.Draw(out, out.Bounds(), i, i.Bounds().Min, draw.Over)
	return out
}

// plainText is a text without signs that the document cannot have.
func plainText(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case r > 0xffff:
			return '?'
		}
		return r
	}, s)
}
