package main

import (
	"net"
	"os"
)

// ready tells the service manager that people are served from now on: sd_notify(3), for a unit of
// Type=notify. Where nobody waits for it nothing is said.
func ready() error {
	socket := os.Getenv("NOTIFY_SOCKET")
	if socket == "" {
		return nil
	}
	if socket[0] == '@' { // the abstract name space, unix(7)
		socket = "\x00" + socket[1:]
	}
	conn, err := net.Dial("unixgram", socket)
	if err != nil {
		return err
	}
	defer conn.Close()
	_, err = conn.Write([]byte("READY=1"))
	return err
}
