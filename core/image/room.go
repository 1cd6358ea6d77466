package image

// Room makes n bytes of capacity for a large piece of an image. Where the system
// offers large pages they are asked for: filling 32 MiB page by page costs as much
// as copying them.
func Room(n int) []byte {
	b := make([]byte, 0, n)
	if n >= 4<<20 {
		largePages(b[:n])
	}
	return b
}
