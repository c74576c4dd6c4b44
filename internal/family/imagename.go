package family

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/goccy/go-yaml/ast"
)

// usualName is the file name of an image that a device receives where its family does not name one:
// plain and short, since devices are picky.
const usualName = "image.bin"

// sendable are the file names that are sent: they mean the same in a header, a path, a command and
// to every file system.
var sendable = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._+-]{0,127}$`)
})

// imageName reads the key image_name. It knows the image's original file name and its version.
func (p *parser) imageName(n ast.Node) {
	source := p.text(n)
	p.later = append(p.later, func() {
		t, err := template(source, p.names)
		if err != nil {
			p.fail(n, "%v", explained(err, p.names))
			return
		}
		for _, use := range t.uses {
			if !slices.Contains([]string{"image", "image.file", "image.version"}, use) || t.Is("image") {
				p.fail(n, "image_name: $%s is not known there; use $image.file or $image.version", use)
				return
			}
		}
		p.program.imageName = t
		if _, err := p.program.ImageName("a.bin", "1"); err != nil {
			p.fail(n, "image_name: %v", err)
		}
	})
}

// ImageName is the file name under which a device receives an image; file is where the image was,
// as its manifest gives it. The error says why a device cannot be given such a name.
func (p *Program) ImageName(file, version string) (string, error) {
	if !p.imageName.Set() {
		return usualName, nil
	}
	name, _, err := p.imageName.Text(
		Values{"image": ImageValues{File: path.Base(file), Version: version}},
		func(value, _ string) (string, error) { return value, nil },
	)
	if err != nil {
		return "", err
	}
	if !sendable().MatchString(name) || strings.HasSuffix(name, ".") {
		return "", fmt.Errorf("%q cannot be sent as a file name: it may have letters, digits and . _ + -",
			name)
	}
	return name, nil
}
