package postmaster

import (
	"context"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"testing"
)

// ForTests runs a package's tests beside a server of their own, and gives the
// exit status; Fresh then makes databases on it, which are copies of one that was prepared.
func ForTests(m interface{ Run() int }, prepare func(ctx context.Context, url string) error) int {
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
	prepared = sync.OnceValue(func() error {
		if err := forTests.Make(context.Background(), pattern); err != nil {
			return err
		}
		return prepare(context.Background(), forTests.URL(pattern))
	})
	return m.Run()
}

// pattern is the database of which others are copies.
const pattern = "pattern"

var (
	forTests *Server
	prepared func() error
	made     atomic.Int64
)

// Fresh makes a database for one test, prepared and without any rows, and gives its URL.
func Fresh(t testing.TB) string {
	if err := prepared(); err != nil {
		t.Fatal(err)
	}
	return another(t, "template "+pattern)
}

// Empty makes a database without anything in it for one test, and gives its URL.
func Empty(t testing.TB) string { return another(t, "") }

func another(t testing.TB, how string) string {
	name := fmt.Sprintf("test_%d", made.Add(1))
	if err := forTests.make(context.Background(), name, how); err != nil {
		t.Fatal(err)
	}
	return forTests.URL(name)
}
