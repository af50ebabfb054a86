package conf

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// renumbered gives the settings of a document before an edit by the addresses that they have behind
// it, as far as lines that are in their place tell: where a block came or went among others of its name,
// theirs are counted anew. The second result leads from such an address to the one before.
func renumbered(a, b *Document, was, is []Setting) ([]Setting, map[string]string) {
	lines := unmoved(bytes.Split(a.data, []byte("\n")), bytes.Split(b.data, []byte("\n")))
	byLine := func(all []Setting) map[int][]Setting {
		found := map[int][]Setting{}
		for _, s := range all {
			found[s.Line] = append(found[s.Line], s)
		}
		return found
	}
	then, now := byLine(was), byLine(is)
	leads, claimed := map[string]string{}, map[string]bool{} // from an address of then to that of now, and those that are led to
	for at := range bytes.Count(a.data, []byte("\n")) + 2 {  // in the file's order: who comes first has the address
		here := now[lines[at]]
		if lines[at] == 0 || len(here) != len(then[at]) {
			continue
		}
		for i, s := range then[at] {
			if s.Address != here[i].Address {
				lead(leads, claimed, s.Address, here[i].Address)
			}
		}
	}
	all, before := make([]Setting, len(was)), map[string]string{}
	for i, s := range was {
		all[i] = s
		var steps []string
		if len(leads) > 0 {
			steps = prefixes(s.Address)
		}
		for k := len(steps) - 1; k >= 0; k-- {
			to, known := leads[steps[k]], leads[steps[k]] != ""
			if !known && claimed[steps[k]] { // another one is counted so now: this one is gone
				to, known = fmt.Sprintf("%s\x00%d", steps[k], i), true
			}
			if known {
				all[i].Address = to + strings.TrimPrefix(s.Address, steps[k])
				break
			}
		}
		before[all[i].Address] = s.Address
	}
	return all, before
}

// prefixes gives the addresses of all that a setting is in, the outermost first, then its own.
func prefixes(address string) (all []string) {
	steps, err := ParseAddress(address)
	if err != nil {
		return []string{address}
	}
	for k := range steps {
		all = append(all, steps[:k+1].String())
	}
	if len(all) > 0 && all[len(all)-1] != address { // it is not written as we write it
		return []string{address}
	}
	return all
}

// lead notes that one address is another now, and so are those of all that it is in, as far as they
// differ in nothing but the numbers by which they pick among equals.
func lead(leads map[string]string, claimed map[string]bool, then, now string) {
	from, err := ParseAddress(then)
	to, err2 := ParseAddress(now)
	if err != nil || err2 != nil || len(from) != len(to) || from.String() != then || to.String() != now {
		return
	}
	for k := range from {
		x, y := from[k], to[k]
		if x.Index, y.Index = 0, 0; x != y {
			return
		}
		if f, t := from[:k+1].String(), to[:k+1].String(); leads[f] == "" && !claimed[t] {
			leads[f], claimed[t] = t, true
		}
	}
}

// unmoved leads from lines, counted from 1, to those that are in their place behind an edit: the same
// ones at the beginning and at the end, between these the ones that are there once in both, as far as
// they kept their order, and what was changed between two of them.
func unmoved(a, b [][]byte) map[int]int {
	same := map[int]int{}
	first, lastA, lastB := 0, len(a), len(b)
	for first < lastA && first < lastB && bytes.Equal(a[first], b[first]) {
		same[first+1] = first + 1
		first++
	}
	for lastA > first && lastB > first && bytes.Equal(a[lastA-1], b[lastB-1]) {
		same[lastA] = lastB
		lastA, lastB = lastA-1, lastB-1
	}
	once := func(lines [][]byte) map[string]int {
		at := map[string]int{}
		for i, l := range lines {
			if _, twice := at[string(l)]; twice {
				at[string(l)] = -1
			} else {
				at[string(l)] = i
			}
		}
		return at
	}
	inA, inB := once(a[first:lastA]), once(b[first:lastB])
	var from, to []int
	for i, l := range a[first:lastA] {
		if k, there := inB[string(l)]; there && k >= 0 && inA[string(l)] == i {
			from, to = append(from, first+i+1), append(to, first+k+1)
		}
	}
	for _, i := range rising(to) {
		same[from[i]] = to[i]
	}
	// Between two of these as many lines as before: they were changed where they are.
	gapA, gapB := 0, 0
	for n := 1; n <= len(a)+1; n++ {
		k, there := same[n], same[n] != 0
		if n == len(a)+1 {
			k, there = len(b)+1, true
		}
		if !there {
			continue
		}
		if n-gapA == k-gapB {
			for i := 1; i < n-gapA; i++ {
				same[gapA+i] = gapB + i
			}
		}
		gapA, gapB = n, k
	}
	return same
}

// rising gives the longest run of numbers that grow, by their places, by patience sorting.
func rising(numbers []int) (run []int) {
	var piles []int
	before := make([]int, len(numbers))
	for i, n := range numbers {
		k, _ := slices.BinarySearchFunc(piles, n, func(pile, n int) int { return numbers[pile] - n })
		before[i] = -1
		if k > 0 {
			before[i] = piles[k-1]
		}
		if k == len(piles) {
			piles = append(piles, i)
		} else {
			piles[k] = i
		}
	}
	if len(piles) > 0 {
		for i := piles[len(piles)-1]; i >= 0; i = before[i] {
			run = append(run, i)
		}
	}
	slices.Reverse(run)
	return run
}
