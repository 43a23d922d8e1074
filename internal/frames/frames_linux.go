package frames

import (
	"syscall"
	"unsafe"
)

// collapse is MADV_COLLAPSE of madvise(2), since Linux 6.1: move what lies in
// small pages into large ones. What is there stays as it is, also where the
// system cannot.
const collapse = 25

// join moves memory into large pages, as far as it fills whole ones; it does
// nothing where the system has none to give, or does not know how.
func join(in []byte) {
	if len(in) == 0 {
		return
	}
	at := uintptr(unsafe.Pointer(&in[0]))
	from, to := (at+size-1)&^(size-1), (at+uintptr(len(in)))&^(size-1)
	if from < to {
		_, _, _ = syscall.Syscall(syscall.SYS_MADVISE, from, to-from, collapse)
	}
}
