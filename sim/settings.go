package sim

import (
	"bytes"
	"strings"
)

// The unit's settings are lines of text, name=value, at the start of the range that
// its spec names, up to the first erased byte.

func (u *Unit) settings() string {
	raw := u.flash.slice(u.Settings.Address, u.Settings.Length)
	if i := bytes.IndexByte(raw, 0xFF); i >= 0 {
		raw = raw[:i]
	}
	return string(raw)
}

// putSetting changes one of them, or adds it; false for what is no setting.
func (u *Unit) putSetting(line string) bool {
	name, value, ok := strings.Cut(line, "=")
	if !ok || name == "" || strings.ContainsAny(line, "\n\xFF") || u.faults.NoSettings {
		return false
	}
	if u.faults.Stubborn == name {
		return true // it says yes, and keeps what it had
	}
	var lines []string
	found := false
	for _, l := range strings.Split(strings.TrimSuffix(u.settings(), "\n"), "\n") {
		if l == "" {
			continue
		}
		if was, _, _ := strings.Cut(l, "="); was == name {
			l, found = name+"="+value, true
		}
		lines = append(lines, l)
	}
	if !found {
		lines = append(lines, line)
	}
	text := strings.Join(lines, "\n") + "\n"
	if uint64(len(text)) > u.Settings.Length {
		return false
	}
	at := u.flash.slice(u.Settings.Address, u.Settings.Length)
	for i := range at {
		at[i] = 0xFF
	}
	copy(at, text)
	u.flash.keep(u.Settings.Address, u.Settings.Length)
	return true
}

// settingAt is the setting that a module has under an identifier.
func (u *Unit) settingAt(did uint16) (name, value string, ok bool) {
	lines := strings.Split(strings.TrimSuffix(u.settings(), "\n"), "\n")
	i := int(did) - firstSetting
	if i < 0 || i >= len(lines) {
		return "", "", false
	}
	return strings.Cut(lines[i], "=")
}
