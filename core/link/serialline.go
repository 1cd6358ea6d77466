package link

// Serial is how a unit's loader is met on a serial line: the setting, and what the
// modem lines do to bring the unit into its loader and out of it.
type Serial struct {
	Baud    int    `yaml:"baud"`
	Parity  string `yaml:"parity"`   // none where it is empty
	OneWire bool   `yaml:"one-wire"` // one wire carries both ways: the bench hears what it sends
	Enter   []Hand `yaml:"enter"`
	Leave   []Hand `yaml:"leave"`
	// Through is what has a thing between the bench and the unit pass the line on: the modem
	// lines are that thing's then, not the unit's.
	Through []Hand `yaml:"through"`
}

// Asking is what goes before the program is asked.
func (s Serial) Asking() []Hand {
	if len(s.Through) > 0 {
		return s.Through
	}
	return s.Leave
}

// Lines tells whether the modem lines bring the unit out of its loader.
func (s Serial) Lines() bool { return len(s.Leave) > 0 && len(s.Through) == 0 }

// Mode is the line's setting.
func (s Serial) Mode() Mode {
	m := Default(s.Baud)
	if s.Parity != "" {
		m.Parity = s.Parity
	}
	return m
}

// Pace is what the line carries at best at a speed, in bytes a second.
func (s Serial) Pace(baud int) float64 {
	return float64(baud) / float64(s.Mode().CharacterBits())
}
