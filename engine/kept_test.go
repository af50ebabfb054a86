package engine

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// crowd is hosts in pools, each of which takes its time to answer: so does a server that has much
// to do.
type crowd struct {
	*memory
	hosts []view.Host
	takes time.Duration
}

func (c *crowd) Hosts(context.Context) ([]view.Host, error) { return c.hosts, nil }

func (c *crowd) HostKey(context.Context, host.Target) (key, print string, err error) {
	return "", "", nil
}

func (c *crowd) Connect(context.Context, host.Target) (Conn, error) {
	return slowConn{takes: c.takes}, nil
}

type slowConn struct {
	Conn
	takes time.Duration
}

func (slowConn) Close() error { return nil }

func (c slowConn) Ask(_ context.Context, _, _ string, questions []host.Question) ([]host.Reply, error) {
	time.Sleep(c.takes)
	replies := make([]host.Reply, len(questions))
	for i := range replies {
		replies[i].Unit.State = "active"
	}
	return replies, nil
}

// TestManyPools asks sixty pools of fifty hosts at the same time, on a server that puts 32 questions
// at once, each of which takes half a second: side by side the first answers of each would be too
// old before its last ones came, and none would ever be known.
func TestManyPools(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		const pools, each, want = 60, 50, 35
		c := &crowd{memory: newMemory(1, ladder.Policy{}), takes: 500 * time.Millisecond}
		c.svc.Source += "pool: labels.pool\nkeep: 25\n"
		svc, err := definition.Parse("pages", []byte(c.svc.Source))
		if err != nil {
			t.Fatal(err)
		}
		c.svc.Digest = svc.Digest
		for n := range pools * each {
			c.hosts = append(c.hosts, view.Host{ID: int64(n + 1), Name: fmt.Sprint("b", n), Address: "b:22", Labels: map[string]string{"pool": fmt.Sprint(n % pools)}})
		}
		e := New(Config{Store: c, Dialer: c})
		defer e.pools.shut()
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
		defer cancel()
		began := time.Now()
		var all sync.WaitGroup
		for n := range pools {
			all.Go(func() {
				name := fmt.Sprintf("pages/%d", n)
				e.askPool(ctx, store.PoolAsk{Pool: name, Service: "pages", Digest: svc.Digest, Want: want})
				if _, well, known := e.pools.Known(name); !known || len(well) < want {
					t.Errorf("after %s, %d hosts of %s are known to be well; want %d", time.Since(began), len(well), name, want)
				}
			})
		}
		all.Wait()
		if took, least := time.Since(began), c.takes*pools*want/poolAskAtOnce; took > 2*least {
			t.Errorf("it took %s; %s are the least", took, least)
		}
	})
}
