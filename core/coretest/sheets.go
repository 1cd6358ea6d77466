package coretest

import "embed"

// Sheets that use more of the form than the small board's does. They are the tests'
// own: the demo's may change.
var (
	//go:embed sheets/printer.yaml
	Printer []byte
	//go:embed sheets/lamp.yaml
	Lamp []byte
	//go:embed sheets/drive.yaml
	Drive []byte
)

//go:embed sheets/monitor-*.yaml
var monitors embed.FS

// Monitor is the dialogue of a simulated monitor with this habit, as it stands under a
// sheet's loader.
func Monitor(habit string) string {
	raw, err := monitors.ReadFile("sheets/monitor-" + habit + ".yaml")
	if err != nil {
		panic(err)
	}
	return string(raw)
}
