package standin

import "os"

// keep writes a file whole or not at all, whatever ends the process meanwhile.
func keep(path string, text []byte) error {
	half := path + ".half"
	if err := os.WriteFile(half, text, 0o600); err != nil {
		return err
	}
	return os.Rename(half, path)
}
