package sim

import (
	"bytes"
	"slices"
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

// Paged is a group of settings that the unit takes only when they are saved together, and
// goes back from at its next start if they are not kept.
type Paged struct {
	Names []string
	Save  string // put as a setting, saves the group; empty: each is kept at once
	Keep  string // put as a setting, keeps it; empty: saved is kept
}

// paged is what a unit remembers of its groups. It is lost with the power, but for what it
// goes back to, which real units keep elsewhere.
type paged struct {
	pending map[string]string // put, and not saved
	before  *string           // the settings to which it goes back
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
	for _, p := range u.Paged {
		switch {
		case p.Save == name:
			was := u.settings()
			for _, n := range p.Names {
				if v, has := u.paged.pending[n]; has && !u.writeSettings(changed(u.settings(), n, &v)) {
					return false
				}
				delete(u.paged.pending, n)
			}
			if p.Keep != "" && u.paged.before == nil {
				u.paged.before = &was
			}
			return true
		case p.Keep == name:
			u.paged.before = nil
			return true
		case p.Save != "" && slices.Contains(p.Names, name):
			if u.paged.pending == nil {
				u.paged.pending = map[string]string{}
			}
			u.paged.pending[name] = value
			return true
		}
	}
	return u.writeSettings(changed(u.settings(), name, &value))
}

// dropSetting takes one out.
func (u *Unit) dropSetting(name string) bool {
	if u.faults.NoSettings || u.faults.Stubborn == name {
		return false
	}
	return u.writeSettings(changed(u.settings(), name, nil))
}

// goBack brings back settings that were saved and not kept, when the unit loses its power.
func (u *Unit) goBack() {
	u.paged.pending = nil
	if was := u.paged.before; was != nil {
		u.paged.before = nil
		u.writeSettings(*was)
	}
}

// changed is the text with one setting changed, added, or taken out where there is no value.
func changed(text, name string, value *string) string {
	var lines []string
	found := false
	for _, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		was, _, _ := strings.Cut(l, "=")
		switch {
		case l == "" || was == name && value == nil:
			continue
		case was == name:
			l, found = name+"="+*value, true
		}
		lines = append(lines, l)
	}
	if !found && value != nil {
		lines = append(lines, name+"="+*value)
	}
	if len(lines) == 0 {
		return ""
	}
	return strings.Join(lines, "\n") + "\n"
}

// writeSettings puts the text into the memory; false where there is no room for it.
func (u *Unit) writeSettings(text string) bool {
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
