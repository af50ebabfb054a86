package outline

import (
	"fmt"
	"strings"
	"time"

	"wladder/core/ladder"
	"wladder/core/plan"
)

// pace says how fast the hosts are taken, what stops that, and what may go wrong.
func (o *Outline) pace() []string {
	hosts, gates := 0, 0
	for _, s := range o.Stages {
		hosts += s.Hosts.Count
		if s.Gate {
			gates++
		}
	}
	text := fmt.Sprintf("at most %s at once, each watched for %s (soak); one that fails gets its old files back, and at %s in a stage all pauses", counted(min(o.AtOnce, hosts), "host"), span(o.Soak), o.failing())
	least := fmt.Sprintf("takes %s at least, acts and probes apart", span(o.Least))
	if gates > 0 {
		least += fmt.Sprintf(", and waits for a person at %s", counted(gates, "gate"))
	}
	all := []string{text, least, fmt.Sprintf("guard: a host puts the old files back by itself once it hears nothing for %s", span(o.Guard))}
	if o.PoolAtOnce > 0 {
		all = append(all, fmt.Sprintf("of one pool at most %s at once", counted(o.PoolAtOnce, "host")))
	}
	if o.Apart != "" {
		all = append(all, fmt.Sprintf("hosts with one value of the label %s are never out together", o.Apart))
	}
	if o.Budget > 0 {
		all = append(all, fmt.Sprintf("a host that takes longer than %s to come to its soak goes back", span(o.Budget)))
	}
	for _, s := range o.Stages {
		if s.AtOnce > 0 {
			all = append(all, fmt.Sprintf("in stage %d at most %s at once", s.Stage+1, counted(s.AtOnce, "host")))
		}
		for n, c := range s.Checks {
			text := fmt.Sprintf("check %d before stage %d: %s", n+1, s.Stage+1, c.Look)
			if c.In != "" {
				text += " (in " + c.In + ")"
			}
			all = append(all, text)
		}
	}
	if o.For > 0 {
		all = append(all, fmt.Sprintf("temporary: each host goes back by itself %s after it is done, if nobody has edited it meanwhile", span(o.For)))
	}
	if o.MayFail.Count > 0 {
		all = append(all, fmt.Sprintf("may fail: %s", o.MayFail.String()))
	}
	if len(o.LocksOut) > 0 {
		all = append(all, "locks out: "+strings.Join(o.LocksOut, ", "))
	}
	return all
}

// failing says how many failed hosts pause a climb.
func (o *Outline) failing() string {
	if o.PauseShare > 0 {
		return fmt.Sprintf("%d %% failed hosts", o.PauseShare)
	}
	return counted(o.PauseAfter, "failed host")
}

func span(s ladder.Span) string {
	d := time.Duration(s)
	switch {
	case d >= 2*time.Hour && d%time.Hour == 0:
		return fmt.Sprintf("%d h", int(d.Hours()))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	case d >= 2*time.Minute:
		text := fmt.Sprintf("%d min", int(d.Minutes()))
		if rest := d % time.Minute; rest >= time.Second {
			text += fmt.Sprintf(" %d s", int(rest.Seconds()))
		}
		return text
	case d%time.Second == 0:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// acted says what takes a service's files up, on how many hosts.
func (p Part) acted() string {
	name := p.Service
	if p.Unit != p.Service+".service" {
		name += " (" + p.Unit + ")"
	}
	var acts []string
	for _, a := range p.Acts {
		text := a.Name
		if commands := strings.Join(a.Commands, "; "); a.Reboots {
			text += " (the host boots anew)"
		} else if commands == "" {
			text += " (no command)"
		} else if a.Name != "restart" && a.Name != "reload" {
			text += fmt.Sprintf(" (%s)", cut(commands))
		}
		acts = append(acts, fmt.Sprintf("%s on %s", text, counted(a.Hosts, "host")))
	}
	text := fmt.Sprintf("%s: %s, then %s to settle", name, strings.Join(acts, ", "), span(p.Settle))
	if p.Checker != "" {
		text += "; checked before by " + cut(p.Checker)
	} else {
		text += "; no checker"
	}
	if p.Drain != "" {
		text += "; " + p.Drain
	}
	if p.Guarded {
		text += "; it carries our own way in: a new connection is made after the act"
	}
	return text
}

// drained says how a service gets out of the way, and comes back.
func drained(p plan.Part) string {
	d := p.Drain
	text := "it gets out of the way first"
	if len(d.Command) > 0 {
		text += fmt.Sprintf(" (%s)", cut(strings.Join(d.Command, " ")))
	}
	if d.Until != nil {
		text += fmt.Sprintf(", until %s says %s", d.Until.Ask, d.Until.Expect)
	}
	text += fmt.Sprintf(", within %s", span(ladder.Span(d.Within)))
	if len(d.Readmit) > 0 {
		text += fmt.Sprintf(", and comes back after (%s)", cut(strings.Join(d.Readmit, " ")))
	}
	return text
}

// out says how many hosts of a pool are under way at once.
func (p Pool) out() string {
	of := "all hosts with " + p.Service
	if p.Name != "" {
		of = fmt.Sprintf("pool %s of %s", p.Name, p.Service)
	}
	text := fmt.Sprintf("%s: %s, %d of them changed, %d under way at once at most", of, counted(p.Hosts, "host"), p.Changed, p.Most)
	if p.Keep > 0 {
		text += fmt.Sprintf("; %d stay well", p.Keep)
	}
	return text
}

// String names the first hosts, and says how many there are more.
func (h Hosts) String() string {
	text := strings.Join(h.First, ", ")
	if more := h.Count - len(h.First); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// cut shortens a command to what fits in a sentence.
func cut(text string) string {
	const most = 60
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}
