package main

import (
	"io/fs"
	"os"
	"syscall"
)

func keepOwner(f *os.File, like fs.FileInfo) error {
	if s, ok := like.Sys().(*syscall.Stat_t); ok && (int(s.Uid) != os.Getuid() || int(s.Gid) != os.Getgid()) {
		return f.Chown(int(s.Uid), int(s.Gid))
	}
	return nil
}
