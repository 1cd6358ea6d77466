package coretest

import _ "embed"

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
