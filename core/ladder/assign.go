package ladder

import (
	"cmp"
	"fmt"
	"slices"

	"wladder/core/expr"
)

// Host is a host that a ladder is to take.
type Host struct {
	expr.Host
	Pool  string // hosts of one pool do the same work
	Keep  int    // how many of the pool have to be well by fresh probes while others are out; 0: it is not asked
	Apart string // neighbours have the same one; empty: it has none
	Alone bool   // it is on the way to others, or carries a server of ours or its database
}

// Rung is where a host stands on a ladder.
type Rung struct {
	Stage int // from 0
	Turn  int // among all hosts: those with a lower one are started before, within a stage
}

// Assign gives each host its place. Each pool is spread evenly over the stages that count, and
// within a pool neighbours stand far from each other; of very many pools that are asked whether they
// are well, only some have their turns at the same time. Hosts that no stage takes form a last stage
// of their own. Behind it comes one for hosts that were not reached, and one for hosts that go
// alone; all these are added to the policy returned.
func (p Policy) Assign(hosts []Host) (Policy, []Rung, error) {
	places := make([]Rung, len(hosts))
	order := spread(hosts)
	for turn, i := range order {
		places[i] = Rung{-1, turn}
	}
	all, alone := 0, false
	for _, h := range hosts {
		if alone = alone || h.Alone; !h.Alone {
			all++
		}
	}
	taken := 0
	for k, s := range p.Stages {
		fits, err := s.fits()
		if err != nil {
			return p, nil, err
		}
		want := s.Count
		if s.Percent > 0 {
			want = (all*s.Percent + 99) / 100
		}
		for _, i := range order {
			if places[i].Stage >= 0 || hosts[i].Alone || fits == nil && taken >= want {
				continue
			}
			if fits != nil {
				if yes, err := fits(hosts[i].Host); err != nil {
					return p, nil, err
				} else if !yes {
					continue
				}
			}
			places[i].Stage = k
			taken++
		}
	}
	p.Stages = slices.Clone(p.Stages)
	if taken < all {
		p.Stages = append(p.Stages, Stage{})
	}
	p.Stages = append(p.Stages, Stage{Again: true})
	if alone {
		p.Stages = append(p.Stages, Stage{Alone: true, AtOnce: 1})
	}
	for i, h := range hosts {
		switch {
		case h.Alone:
			places[i].Stage = len(p.Stages) - 1
		case places[i].Stage < 0:
			places[i].Stage, _ = p.AgainAt()
			places[i].Stage--
		}
	}
	p.gather(hosts, order, places)
	return p, places, nil
}

// askedTogether is how many hosts of pools can be asked again and again within the ten seconds for
// which an answer counts, by a server that has other work as well: some sixty a second.
const askedTogether = 640

// gather has the hosts of very many pools that keep some take their turns pool after pool: as many
// pools side by side as can all be asked in time, and no fewer than fill the room of their stage.
// Were all of them under way, one or two hosts each, no answer would be fresh when the last came.
func (p Policy) gather(hosts []Host, order []int, places []Rung) {
	size := map[string]int{}
	for _, h := range hosts {
		size[h.Pool]++
	}
	type block struct{ asked, room, number int }
	now, at := map[int]block{}, map[string]int{} // by stage; by stage and pool
	blocks := make([]int, len(hosts))
	for _, i := range order {
		h, stage := hosts[i], places[i].Stage
		b := now[stage]
		if h.Keep == 0 {
			blocks[i] = b.number // it stays beside those that it stood with
			continue
		}
		key := fmt.Sprint(stage, " ", h.Pool)
		number, there := at[key]
		if !there {
			if b.asked += h.Keep + 1; b.asked > askedTogether && b.room >= p.AtOnceIn(stage) {
				b = block{asked: h.Keep + 1, number: b.number + 1}
			}
			b.room += max(1, size[h.Pool]-h.Keep-1)
			number = b.number
			now[stage], at[key] = b, number
		}
		blocks[i] = number
	}
	turns := slices.Clone(order)
	slices.SortStableFunc(turns, func(a, b int) int { return cmp.Compare(blocks[a], blocks[b]) })
	for turn, i := range turns {
		places[i].Turn = turn
	}
}

// fits tells which hosts a stage takes whatever their number; nil where it counts them.
func (s Stage) fits() (func(expr.Host) (bool, error), error) {
	switch {
	case len(s.Named) > 0:
		return func(h expr.Host) (bool, error) { return slices.Contains(s.Named, h.Name), nil }, nil
	case s.Where != "":
		program, err := expr.Compile(s.Where, expr.HostVars, expr.Bool)
		if err != nil {
			return nil, err
		}
		return func(h expr.Host) (bool, error) { return program.Bool(h.Vars()) }, nil
	}
	return nil, nil
}

// spread gives an order in which each pool comes as evenly as it can, and within it each
// neighbourhood; hosts without either keep their order.
func spread(hosts []Host) []int {
	all := make([]int, len(hosts))
	for i := range all {
		all[i] = i
	}
	return interleaved(interleaved(all, func(i int) string { return hosts[i].Apart }), func(i int) string { return hosts[i].Pool })
}

// interleaved has the members of each group come evenly among all, in the order in which they are.
func interleaved(all []int, group func(int) string) []int {
	size, rank := map[string]int{}, map[string]int{}
	for _, i := range all {
		size[group(i)]++
	}
	at := make(map[int]float64, len(all)) // how far into its group a member stands, from 0 to 1
	for _, i := range all {
		g := group(i)
		at[i] = (float64(rank[g]) + 0.5) / float64(size[g])
		rank[g]++
	}
	out := slices.Clone(all)
	slices.SortStableFunc(out, func(a, b int) int { return cmp.Or(cmp.Compare(at[a], at[b]), cmp.Compare(group(a), group(b))) })
	return out
}
