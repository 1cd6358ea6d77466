package image

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

const largePage = 2 << 20

// largePages advises the kernel; a kernel that has none ignores it.
func largePages(b []byte) {
	at := uintptr(unsafe.Pointer(unsafe.SliceData(b)))
	skip := int((largePage - at%largePage) % largePage)
	if n := (len(b) - skip) / largePage * largePage; n > 0 {
		unix.Madvise(b[skip:skip+n], unix.MADV_HUGEPAGE)
	}
}
