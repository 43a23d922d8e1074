package frames

import (
	"syscall"
	"unsafe"
)

// collapse is MADV_COLLAPSE of madvise(2), since Linux 6.1: put together what
// lies in small pages. It is tried as well as it goes and changes nothing of
// what is there.
const collapse = 25

// join puts memory into large pages, whole frames alone; none where the system
// has none to give, or does not know how.
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
