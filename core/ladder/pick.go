package ladder

import "fmt"

// Candidate is a queued host that may be started.
type Candidate struct {
	Host  int64
	Pools []string // of which it is one
	Apart string   // of its neighbours; empty: it has none
}

// Pool is how a pool stands when hosts are to be started.
type Pool struct {
	Keep int            // more than so many have to be well before one is taken
	Out  int            // hosts that are under way, in any climb
	Well map[int64]bool // what fresh probes say of hosts that are not under way; others are not known
	// Hosts is how many there are that are not under way.
	Hosts int
}

func (p *Pool) well() (n int) {
	for _, yes := range p.Well {
		if yes {
			n++
		}
	}
	return n
}

// Shut tells that no host of the pool can start now, whichever it is.
func (p *Pool) Shut(policy Policy) bool {
	return policy.PoolAtOnce > 0 && p.Out >= policy.PoolAtOnce || p.Keep > 0 && p.well() <= p.Keep && len(p.Well) >= p.Hosts
}

// Picked is which candidates start.
type Picked struct {
	Start []int // in their order
	// Ask is how many hosts of a pool have to be known as well before more can start: of as many
	// pools as can fill the room, and a few besides, in case some of them are not well.
	Ask map[string]int
	Why string // of the first that has to wait
}

// Pick chooses among candidates, in their order, those that start now, at most room. It holds:
// no more of a pool under way than the ladder lets be, no two neighbours, and nothing of a pool
// of which fresh probes do not show more than its definition keeps. Pools and beside, the
// neighbourhoods of hosts under way, are brought up to date.
func Pick(p Policy, candidates []Candidate, room int, pools map[string]*Pool, beside map[string]bool) (out Picked) {
	out.Ask = map[string]int{}
	wait := func(format string, args ...any) {
		if out.Why == "" {
			out.Why = fmt.Sprintf(format, args...)
		}
	}
	asking := map[string]int{} // candidates that would start, were their pools known to be well
	var unknown []string       // those pools, in the order of their first candidates
	for i, c := range candidates {
		if len(out.Start) >= room {
			break
		}
		if c.Apart != "" && beside[c.Apart] {
			wait("a neighbour (%s) is under way", c.Apart)
			continue
		}
		free, known := true, true
		for _, name := range c.Pools {
			pool := pools[name]
			if pool == nil {
				continue
			}
			well := pool.well()
			switch {
			case p.PoolAtOnce > 0 && pool.Out >= p.PoolAtOnce:
				wait("%s of the pool %s are under way, and the ladder lets no more be", hosts(pool.Out), name)
				free = false
			case pool.Keep == 0 || well > pool.Keep:
			case len(pool.Well) < pool.Hosts:
				known = false
			default:
				wait("the pool %s has %s that are well and not under way, and its definition keeps %d", name, hosts(well), pool.Keep)
				free = false
			}
		}
		if !free {
			continue
		}
		if !known {
			wait("the pool is asked whether enough of it are well")
			for _, name := range c.Pools {
				if pool := pools[name]; pool != nil && pool.Keep > 0 && asking[name] < room {
					if asking[name]++; asking[name] == 1 {
						unknown = append(unknown, name)
					}
					out.Ask[name] = pool.Keep + asking[name]
				}
			}
			continue
		}
		for _, name := range c.Pools {
			if pool := pools[name]; pool != nil {
				pool.Out++
				pool.Hosts--
				delete(pool.Well, c.Host)
			}
		}
		if c.Apart != "" {
			beside[c.Apart] = true
		}
		out.Start = append(out.Start, i)
	}
	// An answer is soon too old: where hundreds of pools wait, those that are asked now take their
	// hosts before the next ones are.
	promised := 0
	for n, name := range unknown {
		if n >= leastAsked && promised >= 2*(room-len(out.Start)) {
			delete(out.Ask, name)
		}
		promised += asking[name]
	}
	return out
}

// leastAsked is how many pools are asked at least, where so many wait to be.
const leastAsked = 4
