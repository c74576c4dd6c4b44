package standin

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// defaults are the settings that what the device runs comes with; s.mu is held.
func (s *StandIn) defaults() map[string]string {
	out := maps.Clone(s.Factory)
	for from, to := range s.Renames {
		if value, is := out[from]; is && s.version != s.original {
			delete(out, from)
			if to != "" {
				out[to] = value
			}
		}
	}
	return out
}

// config is the device's settings now; s.mu is held.
func (s *StandIn) config() map[string]string {
	if s.settings == nil {
		s.settings = s.defaults()
		maps.Copy(s.settings, s.Device.Settings)
	}
	return s.settings
}

// Configured returns the device's settings.
func (s *StandIn) Configured() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.config())
}

// Configure changes some settings.
func (s *StandIn) Configure(some map[string]string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	maps.Copy(s.config(), some)
}

// Counter returns the hours that the device counts.
func (s *StandIn) Counter() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.Hours
}

// SetCounter sets them.
func (s *StandIn) SetCounter(hours int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Hours = hours
}

// ConfigText is the settings, a line each.
func (s *StandIn) ConfigText() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	var b bytes.Buffer
	for _, key := range slices.Sorted(maps.Keys(s.config())) {
		fmt.Fprintf(&b, "%s = %s\n", key, s.config()[key])
	}
	return b.Bytes()
}

// SetConfig takes settings back, where they are the device's own: all of its keys, and no others.
func (s *StandIn) SetConfig(raw []byte) error {
	fresh := map[string]string{}
	s.mu.Lock()
	usual := s.defaults()
	s.mu.Unlock()
	lines := bufio.NewScanner(bytes.NewReader(raw))
	for lines.Scan() {
		key, value, ok := strings.Cut(lines.Text(), "=")
		if _, known := usual[strings.TrimSpace(key)]; !ok || !known {
			return fmt.Errorf("there is no setting %q", strings.TrimSpace(key))
		}
		fresh[strings.TrimSpace(key)] = strings.TrimSpace(value)
	}
	if len(fresh) != len(usual) {
		return errors.New("settings are missing")
	}
	s.mu.Lock()
	s.settings = fresh
	s.mu.Unlock()
	s.Did("settings restored")
	return nil
}
