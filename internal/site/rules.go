package site

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"catena/internal/device"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// Cover is a cover set: devices of which some must stay in service.
type Cover struct {
	Name string   `yaml:"name"`
	Keep int      `yaml:"keep"` // how many stay in service
	Of   []string `yaml:"of"`   // names of devices, with wildcards
}

// Limits bound how many devices are worked on at the same time; 0: any number.
type Limits struct {
	Parallel  int            `yaml:"parallel"`
	PerModel  map[string]int `yaml:"per_model"`
	PerKind   map[string]int `yaml:"per_kind"`
	PerUplink int            `yaml:"per_uplink"`
}

// StopAfter says after how many failures a job starts no more; 0, or "": any number.
type StopAfter struct {
	Failures int    `yaml:"failures"`
	Share    string `yaml:"share"` // of the job's devices, such as 20%
}

// Part is the share as a number from 0 to 1. Parse has checked it.
func (s StopAfter) Part() float64 {
	p, _ := ParseShare(s.Share)
	return p
}

// ParseShare reads a share such as 20%; "" is none.
func ParseShare(text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
	if err != nil || !strings.HasSuffix(text, "%") || !(n > 0 && n <= 100) {
		return 0, fmt.Errorf("%q is not a share; write for example 20%%", text)
	}
	return n / 100, nil
}

func (s Site) checkPatience(doc *yamldoc.Doc) error {
	if step, message := s.Patience.Check(); message != "" {
		return doc.Errorf("$.patience."+step, "%s", message)
	}
	return nil
}

// Signatures are those that an order must have before it is carried out.
type Signatures struct {
	Need int      `yaml:"need" json:"need"` // 0: none
	Keys []string `yaml:"keys" json:"keys"` // public keys, or files in the site folder
}

func (s Site) checkSignatures(doc *yamldoc.Doc) error {
	n := s.Signatures
	switch {
	case n.Need < 0 || n.Need > 2:
		return doc.Errorf("$.signatures.need", "signatures: need: must be 1 or 2; left out: none")
	case n.Need > len(n.Keys):
		return doc.Errorf("$.signatures",
			"signatures: need: %d keys are required, and keys: has %d",
			n.Need, len(n.Keys))
	}
	return nil
}

func (s Site) checkCover(doc *yamldoc.Doc) error {
	named := map[string]bool{}
	for i, c := range s.Cover {
		at := fmt.Sprintf("$.cover[%d]", i)
		switch {
		case text.Clean(c.Name) == "":
			return doc.Errorf(at, "cover: name: is missing; it is shown when a device waits for the set")
		case named[c.Name]:
			return doc.Errorf(at, "cover: two sets have the name %s", c.Name)
		case len(c.Of) == 0:
			return doc.Errorf(at, "cover: of: is missing; list the devices of the set")
		case c.Keep < 1:
			return doc.Errorf(at, "cover: keep: must be 1 or more: how many stay in service")
		}
		named[c.Name] = true
		for j, pattern := range c.Of {
			if !isPattern(pattern) {
				return doc.Errorf(fmt.Sprintf("%s.of[%d]", at, j), "cover: %q is not a name",
					pattern)
			}
		}
	}
	return nil
}

func (s Site) checkLimits(doc *yamldoc.Doc) error {
	l := s.Limits
	for key, n := range map[string]int{"parallel": l.Parallel, "per_uplink": l.PerUplink} {
		if n < 0 {
			return doc.Errorf("$.limits."+key, "limits: %s: %d is not a number of devices", key, n)
		}
	}
	for _, model := range slices.Sorted(maps.Keys(l.PerModel)) {
		if l.PerModel[model] < 1 {
			return doc.Errorf("$.limits.per_model",
				"limits: per_model: %s: must be 1 or more; to skip devices, put them on hold",
				model)
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(l.PerKind)) {
		if l.PerKind[kind] < 1 || !device.IsKind(kind) {
			return doc.Errorf("$.limits.per_kind", "limits: per_kind: %s: write a kind and a number of "+
				"devices, for example camera: 2", kind)
		}
	}
	if s.StopAfter.Failures < 0 {
		return doc.Errorf("$.stop_after.failures", "stop_after: failures: must be 1 or more")
	}
	if _, err := ParseShare(s.StopAfter.Share); err != nil {
		return doc.Errorf("$.stop_after.share", "stop_after: share: %v", err)
	}
	return nil
}
