package view

import (
	"fmt"

	"wladder/core/change"
	"wladder/core/ladder"
)

// Asked says what a change waits for, and of whom.
func Asked(c Change) string {
	switch c.State {
	case change.Draft:
		if c.Hosts > 0 { // rehearsed as it is, yet without a plan
			return c.Author + " mends what got a veto, then rehearses again"
		}
		return c.Author + " rehearses it"
	case change.Rehearsed:
		return c.Author + " reads the diff and offers it"
	case change.Offered:
		return "a reviewer other than " + c.Author + " approves or declines it"
	case change.Approved:
		return fmt.Sprintf("an operator lets it climb (%s)", count(c.Hosts, "host"))
	case change.Climbing:
		switch c.ClimbState {
		case ladder.Paused:
			return "it is paused: an operator resumes, stops or rolls it back"
		case ladder.Waiting:
			return "it waits at a gate: an operator looks, then resumes, stops or rolls it back"
		case ladder.Stopping:
			return "it stops once the hosts under way are through"
		}
		return "it climbs"
	}
	switch c.ClimbState { // it has ended, and hosts of it go back
	case ladder.Paused:
		return "its way back is paused: an operator resumes or stops it"
	case ladder.Stopping:
		return "its way back stops once the hosts under way are through"
	case ladder.Running:
		return "hosts of it go back"
	}
	if c.ReviewDue != nil {
		return fmt.Sprintf("a reviewer other than %s looks at what was approved in an emergency, until %s", c.Author, c.ReviewDue.UTC().Format("2006-01-02 15:04 UTC"))
	}
	if c.State == change.Completed || c.State == change.Stopped {
		if n := c.Counts[ladder.Stranded]; n > 0 {
			return fmt.Sprintf("an operator looks after %s", count(n, "stranded host"))
		}
		if n := c.Counts[ladder.Restored] + c.Counts[ladder.PassedOver]; n > 0 && c.State == change.Completed {
			return fmt.Sprintf("%s %s not done with it: look why, then draft a follow-up", count(n, "host"), map[bool]string{true: "is", false: "are"}[n == 1])
		}
	}
	return "nothing"
}

func count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
