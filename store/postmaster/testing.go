package postmaster

import (
	"context"
	"fmt"
	"os"
	"sync/atomic"
	"testing"
)

// ForTests runs a package's tests beside a server of their own, and gives the
// exit status; Fresh then makes databases on it.
func ForTests(m interface{ Run() int }) int {
	dir, err := os.MkdirTemp("", "wladder-pg-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o711)
	forTests, err = Start(context.Background(), Config{Dir: dir + "/pg", Careless: true})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer forTests.Stop()
	return m.Run()
}

var (
	forTests *Server
	made     atomic.Int64
)

// Fresh makes an empty database for one test and gives its URL.
func Fresh(t testing.TB) string {
	name := fmt.Sprintf("test_%d", made.Add(1))
	if err := forTests.Make(context.Background(), name); err != nil {
		t.Fatal(err)
	}
	return forTests.URL(name)
}
