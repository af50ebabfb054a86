package main

import (
	"os"
	"path/filepath"
	"strings"
)

// hostKeys gives the public host keys of this machine, from where its own sshd keeps them; a host
// that shows one of them is the machine that this server runs on.
func hostKeys(directory string) (keys []string) {
	names, _ := filepath.Glob(filepath.Join(directory, "ssh_host_*_key.pub"))
	for _, name := range names {
		if text, err := os.ReadFile(name); err == nil {
			if fields := strings.Fields(string(text)); len(fields) >= 2 {
				keys = append(keys, fields[0]+" "+fields[1])
			}
		}
	}
	return keys
}
