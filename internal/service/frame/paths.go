package frame

// UnitPath is a unit in a path.
type UnitPath struct {
	Unit string `path:"unit" doc:"Id or serial."`
}

// RunPath is a run in a path.
type RunPath struct {
	Run string `path:"run"`
}

// DigestPath is a file by its SHA-256 in a path.
type DigestPath struct {
	Digest string `path:"digest"`
}
