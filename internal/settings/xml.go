package settings

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"github.com/beevik/etree"
)

// xmlDoc is settings in XML: a setting is an attribute, or an element that has none inside of it.
// Of elements of one name, each is called by its attribute name or id where these differ, else by
// its place, from 1:
//
//	/config/port[@name="eth0"]/speed     /config/server[2]/@address
type xmlDoc struct {
	tree     *etree.Document
	settings map[string]xmlPlace
	elements map[string]*etree.Element
}

type xmlPlace struct {
	of        *etree.Element
	attribute string // empty: the text of the element
}

func (p xmlPlace) value() string {
	if p.attribute != "" {
		return p.of.SelectAttrValue(p.attribute, "")
	}
	return p.of.Text()
}

func readXML(raw []byte) (*xmlDoc, error) {
	d := &xmlDoc{tree: etree.NewDocument(), settings: map[string]xmlPlace{},
		elements: map[string]*etree.Element{}}
	// no more than needed
	d.tree.WriteSettings = etree.WriteSettings{CanonicalText: true, CanonicalAttrVal: true}
	if bytes.Count(raw, []byte("<")) > 2*maxValues {
		return nil, fmt.Errorf("more than %d settings", maxValues)
	}
	if err := d.tree.ReadFromBytes(raw); err != nil {
		return nil, fmt.Errorf("no XML: %w", err)
	}
	root := d.tree.Root()
	if root == nil {
		return nil, errors.New("not XML: it has no element")
	}
	return d, d.add("/"+root.FullTag(), root, 0)
}

func (d *xmlDoc) add(path string, e *etree.Element, depth int) error {
	if depth > maxDepth || len(d.settings) >= maxValues {
		return fmt.Errorf("more than %d settings, or more than %d levels", maxValues, maxDepth)
	}
	d.elements[path] = e
	for _, a := range e.Attr {
		if a.Space == "xmlns" || a.FullKey() == "xmlns" {
			continue
		}
		d.settings[path+"/@"+a.FullKey()] = xmlPlace{e, a.FullKey()}
	}
	inside := e.ChildElements()
	if len(inside) == 0 {
		d.settings[path] = xmlPlace{of: e}
	}
	byTag := map[string][]*etree.Element{}
	for _, c := range inside {
		byTag[c.FullTag()] = append(byTag[c.FullTag()], c)
	}
	for tag, all := range byTag {
		key := telling(all)
		for i, c := range all {
			at := path + "/" + tag
			switch {
			case key != "":
				at += fmt.Sprintf("[@%s=%q]", key, c.SelectAttrValue(key, ""))
			case len(all) > 1:
				at += fmt.Sprintf("[%d]", i+1)
			}
			if err := d.add(at, c, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// telling is the attribute by which elements of one name are told apart; empty: there is none.
func telling(all []*etree.Element) string {
	for _, key := range []string{"name", "id"} {
		seen := map[string]bool{}
		for _, e := range all {
			seen[e.SelectAttrValue(key, "")] = true
		}
		if len(seen) == len(all) && !seen[""] {
			return key
		}
	}
	return ""
}

// set gives a setting a value; one that is not there is made in the element where it belongs.
func (d *xmlDoc) set(path, value string) error {
	at, is := d.settings[path]
	parent, key := cutLastStep(path)
	switch {
	case is && at.attribute == "":
		at.of.SetText(value)
		return nil
	case is:
		at.of.CreateAttr(at.attribute, value) // which replaces it
		return nil
	case strings.HasPrefix(key, "@"):
		e, err := d.element(parent)
		if err == nil {
			e.CreateAttr(key[1:], value)
		}
		return err
	}
	e, err := d.element(path)
	if err == nil {
		e.SetText(value)
	}
	return err
}

// element is the element at a path, which is made where it is not there.
func (d *xmlDoc) element(path string) (*etree.Element, error) {
	if e := d.elements[path]; e != nil {
		return e, nil
	}
	parent, step := cutLastStep(path)
	if parent == "" {
		return nil, fmt.Errorf("%s: there is no place for it", path)
	}
	in, err := d.element(parent)
	if err != nil {
		return nil, err
	}
	tag, which, _ := strings.Cut(step, "[@")
	e := in.CreateElement(tag)
	if key, value, named := strings.Cut(strings.TrimSuffix(which, "]"), "="); named {
		e.CreateAttr(key, unquoted(value))
	}
	d.elements[path] = e
	return e, nil
}

// cutLastStep cuts a path before its last step.
func cutLastStep(path string) (before, step string) {
	all := marks(path, '/')
	if len(all) == 0 {
		return "", path
	}
	last := all[len(all)-1]
	return path[:last], path[last+1:]
}
