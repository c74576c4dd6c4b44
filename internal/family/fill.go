package family

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"strings"

	"catena/internal/text"
)

// Filled is a step with its values in it, each encoded for the place where it stands: no value
// can end the place and start another one.
type Filled struct {
	Method string
	Target string // of HTTP: the path, and the query
	Header textproto.MIMEHeader
	Body   []byte
	Tail   []byte // what follows the image, where it is a part of the body
	// Image says that the image goes between Body and Tail.
	Image   bool
	Objects []string // of SNMP: the values that are set, in the order of the step
	Command string   // of SSH: the command line, or the remote path of an upload
	Typed   []string // of SSH: what is typed at the prompts of its Reply, a line each
	Secret  bool     // it holds a password or a secret of the login, or what was derived from one
	// Hidden are the texts in it that hold such a secret, as they are sent.
	Hidden []string
	// Shown is the same with placeholders for secrets, for whoever shows or records it; nil: it may be
	// shown.
	Shown *Filled
}

// text fills a template in. Every value of a step goes through it or through value: so that what is
// secret is noticed wherever it stands.
func (f *Filled) text(t Template, v Values, encode Encode) (string, bool, error) {
	s, set, err := t.Text(v, encode)
	if set {
		f.note(t, s)
	}
	return s, set, err
}

// must is text for a template whose values must all be known.
func (f *Filled) must(t Template, v Values, encode Encode) (string, error) {
	s, set, err := f.text(t, v, encode)
	if err == nil && !set {
		err = fmt.Errorf("%s: a value in it is not known", t.Source)
	}
	return s, err
}

// value is text for a value that keeps its type.
func (f *Filled) value(t Template, v Values) (any, bool, error) {
	value, set, err := t.Value(v)
	if set {
		f.note(t, fmt.Sprint(value))
	}
	return value, set, err
}

func (f *Filled) note(t Template, sent string) {
	if t.Secret {
		f.Secret, f.Hidden = true, append(f.Hidden, sent)
	}
}

// Fill fills a request in. wire are the headers that go with every request.
func (s *Step) Fill(v Values, wire []Field) (f Filled, err error) {
	f = Filled{Method: s.Method, Header: textproto.MIMEHeader{}, Image: s.Kind == Upload &&
		!s.OfBytes()}
	if s.Protocol == "ssh" || s.Protocol == "tftp" || s.Protocol == "bacnet" && s.Objects == nil ||
		s.Kind == Ask {
		encode := shellWord
		switch {
		case s.Kind == Ask:
			encode = asIs
		case s.Word == "reinitialise":
			encode = oneLine
		case s.Shell == "none" || s.Kind == Upload:
			encode = onlyPlain
		}
		f.Command, err = f.must(s.Path, v, encode)
		for _, r := range s.Reply {
			typed, typedErr := f.must(r.Text, v, oneLine)
			f.Typed, err = append(f.Typed, typed), errors.Join(err, typedErr)
		}
		if err == nil && s.OfBytes() {
			err = s.Body.fill(&f, v)
		}
		return f, err
	}
	for _, o := range s.Objects {
		if o.Name != "" {
			continue
		}
		value, err := f.must(o.Value, v, oneLine)
		if err != nil {
			return f, fmt.Errorf("set: %s: %w", o.OID, err)
		}
		f.Objects = append(f.Objects, value)
	}
	if s.ofObjects() {
		return f, nil
	}
	if f.Target, err = s.target(&f, v); err != nil {
		return f, err
	}
	for _, h := range append(append([]Field{}, wire...), s.Header...) {
		value, set, err := f.text(h.Value, v, headerValue)
		if err != nil {
			return f, fmt.Errorf("header %s: %w", h.Name, err)
		}
		if set {
			f.Header.Set(h.Name, value)
		}
	}
	if s.Body != nil {
		err = s.Body.fill(&f, v)
	}
	return f, err
}

// target is the path with its query. What stands behind a ? in the path is encoded as a query.
func (s *Step) target(f *Filled, v Values) (string, error) {
	target, err := f.must(s.Path, v, func(value, before string) (string, error) {
		switch {
		case strings.Contains(before, "?"):
			return url.QueryEscape(value), nil
		case value == "." || value == "..":
			return "", errors.New("is not a single name in a path")
		}
		return url.PathEscape(value), nil
	})
	if err != nil {
		return "", err
	}
	for _, q := range s.Query {
		value, set, err := f.text(q.Value, v, asIs)
		if err != nil {
			return "", err
		}
		if !set {
			continue
		}
		sign := "?"
		if strings.Contains(target, "?") {
			sign = "&"
		}
		target += sign + url.QueryEscape(q.Name) + "=" + url.QueryEscape(value)
	}
	return target, nil
}

func (b *Body) fill(f *Filled, v Values) error {
	kind := map[string]string{"json": "application/json", "xml": "application/xml",
		"form": "application/x-www-form-urlencoded", "text": "text/plain; charset=utf-8",
		"ini": "text/plain; charset=utf-8", "raw": "application/octet-stream"}[b.Kind]
	var err error
	switch b.Kind {
	case "json":
		var out bytes.Buffer
		_, err = b.JSON.write(&out, v, f)
		f.Body = out.Bytes()
	case "form":
		var all []string
		for _, field := range b.Fields {
			value, set, err := f.text(field.Value, v, asIs)
			if err != nil {
				return fmt.Errorf("form: %s: %w", field.Name, err)
			}
			if set {
				all = append(all, url.QueryEscape(field.Name)+"="+url.QueryEscape(value))
			}
		}
		f.Body = []byte(strings.Join(all, "&"))
	case "xml", "text", "ini":
		encode := map[string]Encode{"xml": xmlText, "text": onlyPlain, "ini": iniValue}[b.Kind]
		var text string
		text, err = f.must(b.Text, v, encode)
		f.Body = []byte(text)
	case "raw": // bytes as they are
		var text string
		text, err = f.must(b.Text, v, asIs)
		f.Body = []byte(text)
	case "multipart":
		kind, err = b.multipart(f, v)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", b.Kind, err)
	}
	if f.Header.Get("Content-Type") == "" {
		f.Header.Set("Content-Type", kind)
	}
	return nil
}

// multipart makes a form with a file (RFC 7578). The image, if it is a field, is sent between
// what stands before it and after it.
func (b *Body) multipart(f *Filled, v Values) (string, error) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	image, _ := v["image"].(ImageValues)
	if err := w.SetBoundary(b.boundary(image, v)); err != nil {
		return "", err
	}
	for _, field := range b.Fields {
		if field.Value.Is("image") {
			if _, err := w.CreateFormFile(field.Name, image.Name); err != nil {
				return "", err
			}
			f.Body = bytes.Clone(out.Bytes())
			out.Reset()
			continue
		}
		value, set, err := f.text(field.Value, v, asIs)
		if err != nil || !set {
			if err != nil {
				return "", err
			}
			continue
		}
		if err := w.WriteField(field.Name, value); err != nil {
			return "", err
		}
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	if f.Body == nil {
		f.Body = out.Bytes()
	} else {
		f.Tail = out.Bytes()
	}
	return w.FormDataContentType(), nil
}

// boundary is one that no part can have in it: it is a digest over all of them (RFC 2046, 5.1.1).
func (b *Body) boundary(image ImageValues, v Values) string {
	h := sha256.New()
	h.Write([]byte(image.SHA256))
	for _, field := range b.Fields {
		if !field.Value.Is("image") {
			value, _, _ := field.Value.Text(v, asIs) // its error is that of the field
			h.Write([]byte(field.Name + "\x00" + value + "\x00"))
		}
	}
	return fmt.Sprintf("%x", h.Sum(nil)[:20])
}

// write writes a tree as JSON. A value keeps its type; what is not set is left out of its object
// or list.
func (t *Tree) write(out *bytes.Buffer, v Values, f *Filled) (set bool, err error) {
	switch t.Kind {
	case TreeRaw:
		out.WriteString(t.Raw)
		return true, nil
	case TreeText:
		value, set, err := f.value(t.Text, v)
		if err != nil || !set {
			return set, err
		}
		return true, jsonValue(out, value)
	}
	ends := map[TreeKind]string{TreeList: "[]", TreeObject: "{}"}[t.Kind]
	out.WriteByte(ends[0])
	first := true
	for i := range t.Items {
		var item bytes.Buffer
		set, err := t.Items[i].write(&item, v, f)
		if err != nil {
			return false, err
		}
		if !set {
			continue
		}
		if !first {
			out.WriteByte(',')
		}
		first = false
		if t.Kind == TreeObject {
			if err := jsonValue(out, t.Keys[i]); err != nil {
				return false, err
			}
			out.WriteByte(':')
		}
		out.Write(item.Bytes())
	}
	out.WriteByte(ends[1])
	return true, nil
}

func jsonValue(out *bytes.Buffer, v any) error {
	e := json.NewEncoder(out)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	out.Truncate(max(0, out.Len()-1)) // the line's end
	return err
}

// Encodings, by place.

// headerValue refuses what would end a header (RFC 9110, 5.5), and within quotes escapes what
// would end those (5.6.4).
func headerValue(s, before string) (string, error) {
	if strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return "", errors.New("a value with control characters is not allowed in a header")
	}
	if strings.Count(before, `"`)%2 == 1 {
		s = strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s)
	}
	return s, nil
}

// xmlText escapes a value as text or as an attribute of XML.
func xmlText(s, _ string) (string, error) {
	var b strings.Builder
	err := xml.EscapeText(&b, []byte(s))
	return b.String(), err
}

// shellWord quotes a value as one word of a POSIX shell.
func shellWord(s, _ string) (string, error) {
	if strings.ContainsAny(s, "\x00\n\r") {
		return "", errors.New("a value with line breaks is not allowed in a command line")
	}
	if s != "" && plainWord().MatchString(s) {
		return s, nil
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'", nil
}

var plainWord = text.Later(`^[A-Za-z0-9_.:/+=@%-]*$`)

// onlyPlain refuses what could mean something where nothing can be quoted.
func onlyPlain(s, _ string) (string, error) {
	// the marks of placeholders mean nothing anywhere
	plain := strings.NewReplacer("‹", "", "›", "").Replace(s)
	if !plainWord().MatchString(plain) || strings.HasPrefix(s, "-") || strings.Contains(s, "..") {
		return "", fmt.Errorf("%.40q is not allowed here: values that cannot be quoted must be plain",
			s)
	}
	return s, nil
}

// iniValue refuses what would end a value of an INI file, or start a comment there: nothing can be
// quoted that every reader of such files understands.
func iniValue(s, _ string) (string, error) {
	if strings.ContainsAny(s, ";#\"'\\") || strings.TrimSpace(s) != s {
		return "", fmt.Errorf("%.40q is not allowed in an INI file: it contains a character "+
			"that some readers take for a comment or a quote", s)
	}
	return oneLine(s, "")
}

// oneLine refuses what would answer a second question.
func oneLine(s, _ string) (string, error) {
	if strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return "", errors.New("a value with control characters cannot be typed in")
	}
	return s, nil
}
