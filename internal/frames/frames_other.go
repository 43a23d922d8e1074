//go:build !linux

package frames

// join leaves memory as it is.
func join([]byte) {}
