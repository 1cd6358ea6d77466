package paper

import "zealousferry/core"

// told is a message of the catalogue, filled in.
func told(format string, args ...any) string { return core.Say(format, args...).Text }
