package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"wladder/core/view"
)

var hostsCommand = command{"hosts", "[PART-OF-NAME]", "the machines", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	var wanted []string
	where := f.String("where", "", "only the hosts that this expression fits")
	state := f.String("state", "", "only those that are so: set-aside, not-reached, no-key or never-surveyed")
	f.Func("label", "`KEY=VALUE`: hosts with this label alone; may be repeated, and all must fit", func(s string) error {
		if key, _, ok := strings.Cut(s, "="); !ok || key == "" {
			return fmt.Errorf("want KEY=VALUE")
		}
		wanted = append(wanted, s)
		return nil
	})
	p := pages(f)
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) > 1 {
			return usagef("want at most a part of the hosts' names")
		}
		fits, known := hostStates[cmp.Or(*state, "any")]
		if !known {
			return usagef("-state %s: want set-aside, not-reached, no-key or never-surveyed", *state)
		}
		found, err := t.client().Hosts(ctx, strings.Join(args, ""), *where, wanted...)
		found = slices.DeleteFunc(found, func(h view.Host) bool { return !fits(h) })
		found = onePage(t, p, "hosts", found, func(h view.Host) string { return h.Name })
		return list(t, found, err, len(args)+len(wanted)+len(*where)+len(*state) > 0, []string{"HOST", "ADDRESS", "LABELS", "SYSTEM", "SURVEYED", "NOT REACHED"}, func(h view.Host) []string {
			surveyed, system := "never surveyed", ""
			if h.SurveyedAt != nil {
				surveyed = ago(*h.SurveyedAt)
				system = fmt.Sprintf("%s %s, %s, %d MiB", h.Traits.OS, h.Traits.OSVersion, counted(int(h.Traits.Cores), "core"), h.Traits.Memory>>20)
			}
			return []string{h.Name, byWay(h.Address, h.Via), labels(h), system, surveyed, standing(h)}
		})
	}
}}

// hostStates are those that a list of hosts may be narrowed to.
var hostStates = map[string]func(h view.Host) bool{
	"any":            func(view.Host) bool { return true },
	"set-aside":      func(h view.Host) bool { return h.AsideUntil != nil },
	"not-reached":    func(h view.Host) bool { return h.MissedAt != nil },
	"no-key":         func(h view.Host) bool { return h.HostKey == "" },
	"never-surveyed": func(h view.Host) bool { return h.SurveyedAt == nil },
}

// byWay says where a host is reached, and by way of which other one.
func byWay(address, via string) string {
	if via == "" {
		return address
	}
	return address + " by way of " + via
}

func labels(h view.Host) string {
	var all []string
	for k, v := range h.Labels {
		all = append(all, k+"="+v)
	}
	sort.Strings(all)
	return strings.Join(all, " ")
}

var hostCommand = command{"host", "NAME", "one machine: how it stands, and what becomes of it", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	raise := f.Bool("raise-fence", false, "have our next fence be above what the host has seen: after the database was restored from an older copy")
	aside := f.Bool("set-aside", false, "leave it alone, with -because and -until: it is not surveyed, rehearsed or changed")
	back := f.Bool("back", false, "take it back into service after it was set aside")
	until := f.String("until", "", "the last `DAY` for which it is set aside, such as 2026-12-24")
	because := f.String("because", "", "why it is set aside, or retired")
	rename := f.String("rename", "", "give it another `NAME`")
	retire := f.Bool("retire", false, "take it out of service for good, with -because; its name is free then")
	key := f.Bool("key", false, "show the host key that it shows now, and the one that is pinned")
	pin := f.String("pin-key", "", "pin the key with this `FINGERPRINT`, which you compared on the host's console")
	file := f.String("file", "", "show the file with this `KEY` in the definition of -service, as it is on the host, secrets covered")
	service := f.String("service", "", "with -file or -history: the service")
	history := f.String("history", "", "tell what became of the setting at this `ADDRESS` on the host; -file says which file where there are several")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want the name of one host")
		}
		name, c := args[0], t.client()
		wanted := 0
		for _, flag := range []bool{*raise, *aside, *back, *rename != "", *retire, *key, *pin != "", *file+*history != ""} {
			if flag {
				wanted++
			}
		}
		if wanted > 1 {
			return usagef("want one of -raise-fence, -set-aside, -back, -rename, -retire, -key, -pin-key, -file and -history")
		}
		if *file+*history != "" && *service == "" {
			return usagef("want -service S: the service whose file it is")
		}
		said := func(err error, format string, args ...any) error {
			if err == nil {
				t.done(format, args...)
			}
			return err
		}
		switch {
		case *aside:
			day, err := time.ParseInLocation(time.DateOnly, *until, time.Local)
			if err != nil || *because == "" {
				return usagef("-set-aside wants -because TEXT and -until DAY, such as 2026-12-24")
			}
			end := day.AddDate(0, 0, 1)
			return said(c.SetAside(ctx, name, view.Aside{Because: *because, Until: end}), "%s is set aside until the end of %s; wladder host %s -back takes it back earlier", plain(name), *until, plain(name))
		case *back:
			return said(c.TakeBack(ctx, name), "%s is back in service; rehearse the changes that it missed", plain(name))
		case *rename != "":
			return said(c.RenameHost(ctx, name, *rename), "%s is %s now; expressions that named it want its new name", plain(name), plain(*rename))
		case *retire:
			if *because == "" {
				return usagef("-retire wants -because TEXT")
			}
			return said(c.RetireHost(ctx, name, *because), "%s is retired; what the record and its changes tell of it stays", plain(name))
		case *pin != "":
			out, err := c.PinKey(ctx, name, *pin)
			switch {
			case err != nil:
				return err
			case out.Request != 0:
				t.requested(view.Requested{Request: out.Request}, "")
			case out.Pinned == 0:
				t.done("%s", "that key is pinned already")
			default:
				t.done("%s is known by %s from now on", plain(name), plain(*pin))
			}
			return nil
		case *history != "":
			return t.history(ctx, name, *service, *file, *history)
		case *file != "":
			return t.hostFile(ctx, name, *service, *file)
		case *key:
			return t.hostKey(ctx, name)
		case *raise:
			out, err := c.RaiseFence(ctx, name)
			return said(err, "the fence of %s is raised to %d", plain(name), out.To)
		}
		h, err := c.Host(ctx, name)
		if err != nil {
			return err
		}
		if ok, err := t.show(h); ok {
			return err
		}
		t.host(h)
		return nil
	}
}}

// hostKey shows the key that a host shows, beside the pinned one.
func (t *terminal) hostKey(ctx context.Context, name string) error {
	k, err := t.client().HostKey(ctx, name)
	if err != nil {
		return err
	}
	if ok, err := t.show(k); ok {
		return err
	}
	fmt.Fprintf(t.out, "shows   %s\n", plain(k.Fingerprint))
	switch k.Pinned {
	case k.Fingerprint:
		fmt.Fprintln(t.out, "pinned  the same")
		return nil
	case "":
		fmt.Fprintln(t.out, "pinned  none: nothing is done on this host until one is")
	default:
		fmt.Fprintf(t.out, "pinned  %s\nThe host was set up anew, or this is another machine: find out which\n", plain(k.Pinned))
	}
	fmt.Fprintf(t.out, "Compare it on the host's own console, with: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub\nThen: wladder host %s -pin-key %s\n", plain(name), plain(k.Fingerprint))
	return errNotWell
}

// host shows one machine.
func (t *terminal) host(h view.Host) {
	fmt.Fprintf(t.out, "%s\n  address   %s, as %s\n", plain(h.Name), h.Address, plain(h.Login))
	if h.Via != "" {
		fmt.Fprintf(t.out, "  by way of %s\n", plain(h.Via))
	}
	if h.HostKey == "" {
		fmt.Fprintf(t.out, "  host key  none: nothing is done here until one is pinned; see wladder host %s -key\n", plain(h.Name))
	} else {
		fmt.Fprintf(t.out, "  host key  %s\n", strings.TrimSpace(plain(h.HostKey)))
	}
	fmt.Fprintf(t.out, "  labels    %s\n", plain(labels(h)))
	if h.AsideUntil != nil {
		fmt.Fprintf(t.out, "  aside     by %s until %s: %s\n", plain(h.AsideBy), when(*h.AsideUntil), plain(h.AsideBecause))
	}
	if h.MissedAt != nil {
		fmt.Fprintf(t.out, "  missed    %s: %s\n", when(*h.MissedAt), plain(h.MissedWhy))
	}
	if h.SurveyedAt == nil {
		fmt.Fprintln(t.out, "  never surveyed")
		return
	}
	fmt.Fprintf(t.out, "  system    %s %s (%s), kernel %s, %s, %d MiB\n  surveyed  %s\n", h.Traits.OS, h.Traits.OSVersion, h.Traits.Family, plain(strings.TrimSpace(h.Traits.Kernel+" "+h.Traits.Arch)), counted(int(h.Traits.Cores), "core"), h.Traits.Memory>>20, when(*h.SurveyedAt))
	if up := time.Duration(h.Traits.Uptime) * time.Second; up > 0 {
		fmt.Fprintf(t.out, "  up        %s then", spoken(up))
		if ahead := h.Traits.Clock; ahead != 0 {
			fmt.Fprintf(t.out, ", its clock %+d s from the server's", ahead)
		}
		fmt.Fprintln(t.out)
	}
}

// standing says in a few words what keeps a host from being worked on.
func standing(h view.Host) string {
	switch {
	case h.AsideUntil != nil:
		return "set aside until " + h.AsideUntil.Add(-time.Second).Local().Format(time.DateOnly) // the end of a day is that day
	case h.HostKey == "":
		return "no host key"
	case h.MissedAt != nil:
		return h.MissedWhy + ", " + ago(*h.MissedAt)
	}
	return ""
}

// spoken says a length of time in its largest unit.
func spoken(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return counted(int(d/(24*time.Hour)), "day")
	case d >= 2*time.Hour:
		return counted(int(d/time.Hour), "hour")
	}
	return counted(int(d/time.Minute), "minute")
}

// hostLine is a host as the file of hosts-load has it.
type hostLine struct {
	Name    string            `yaml:"name" json:"name"`
	Address string            `yaml:"address" json:"address"`
	Login   string            `yaml:"login" json:"login"`
	HostKey string            `yaml:"host_key" json:"host_key,omitempty"`
	Sudo    bool              `yaml:"sudo" json:"sudo"`
	Via     string            `yaml:"via" json:"via,omitempty"` // the host by way of which it is reached
	Labels  map[string]string `yaml:"labels" json:"labels,omitempty"`
}

var hostsLoad = command{"hosts-load", "FILE", "add machines, or bring them up to date, from YAML, CSV or an ssh_config", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	known := f.String("known-hosts", "", "a known_hosts `FILE`: the keys of hosts that have none in the other")
	check := f.Bool("check", false, "say what would be loaded, and load nothing")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want one file")
		}
		data, err := t.readFile(args[0])
		if err != nil {
			return err
		}
		read, err := readHosts(args[0], data)
		if err == nil {
			err = withKeys(read, *known)
		}
		if err != nil {
			return err
		}
		if len(read) == 0 {
			return fmt.Errorf("%s: there is no host in it", args[0])
		}
		var wrong []error
		for i, h := range read {
			if why := (view.Host{Name: h.Name, Address: h.Address, Login: h.Login}).Fault(); why != "" {
				wrong = append(wrong, fmt.Errorf("%s: host %d (%s): %s", args[0], i+1, plain(cut(h.Name, 60)), why))
			}
		}
		if err := errors.Join(wrong...); err != nil {
			return err
		}
		if *check {
			var rows [][]string
			keyless := 0
			for _, h := range read {
				key := "none: it is not connected to until one is loaded"
				if words := strings.Fields(h.HostKey); len(words) > 1 {
					key = words[0]
				} else {
					keyless++
				}
				rows = append(rows, []string{h.Name, byWay(h.Address, h.Via), h.Login, labels(view.Host{Labels: h.Labels}), key})
			}
			if ok, err := t.show(read); ok && err != nil {
				return err
			} else if !ok {
				t.table([]string{"HOST", "ADDRESS", "LOGIN", "LABELS", "HOST KEY"}, rows)
			}
			if keyless > 0 {
				return errNotWell
			}
			return nil
		}
		var hosts []view.Host
		for _, h := range read {
			hosts = append(hosts, view.Host{Name: h.Name, Address: h.Address, Login: h.Login, HostKey: h.HostKey, Sudo: h.Sudo, Via: h.Via, Labels: h.Labels})
		}
		out, err := t.client().LoadHosts(ctx, hosts)
		if err != nil {
			return err
		}
		t.fields()["hosts"], t.fields()["added"] = len(hosts), out.Added
		t.done("%s loaded, %d of them new", counted(len(hosts), "host"), out.Added)
		for _, h := range hosts {
			if h.HostKey == "" {
				t.done("%s has no host key: see it with wladder host %s -key, compare it on the host's console, and pin it", plain(h.Name), plain(h.Name))
			}
		}
		if out.Request != 0 {
			t.done("%s reached in another way from then on", counted(out.Asked, "host"))
			t.requested(view.Requested{Request: out.Request}, "")
		}
		return nil
	}
}}

var survey = command{"survey", "", "ask machines what they are", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	where := f.String("where", "", "only the hosts that this expression fits")
	return func(ctx context.Context, t *terminal, _ []string) error {
		out, err := t.client().Survey(ctx, *where)
		if err != nil {
			return err
		}
		if ok, err := t.show(out); err != nil {
			return err
		} else if !ok {
			fmt.Fprintf(t.out, "%s surveyed\n", counted(out.Hosts-len(out.Failed)-len(out.Aside), "host"))
			for _, all := range []map[string]string{out.Aside, out.Failed} {
				for _, name := range slices.Sorted(maps.Keys(all)) {
					fmt.Fprintln(t.out, plain(all[name]))
				}
			}
		}
		if len(out.Failed) > 0 {
			return errNotWell
		}
		return nil
	}
}}

var hostsNewer = command{"hosts-newer", "", "after the database came back from an older copy: ask machines what they have seen, and name those that are newer than it", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	where := f.String("where", "", "only the hosts that this expression fits")
	raise := f.Bool("raise", false, "have our next fence for each of these be above what it has seen, so that it takes orders from us again")
	return func(ctx context.Context, t *terminal, _ []string) error {
		out, err := t.client().NewerHosts(ctx, *where, *raise)
		if err != nil {
			return err
		}
		if ok, err := t.show(out); err != nil {
			return err
		} else if !ok {
			fmt.Fprintf(t.out, "%s asked: %d newer than the database, %d not reached\n", counted(out.Asked, "host"), len(out.Newer), len(out.Missed))
			for _, h := range out.Newer {
				text := fmt.Sprintf("has seen fence %d; the database knows of %d", h.Seen, h.Ours)
				if h.Raised {
					text = fmt.Sprintf("has seen fence %d; our next one is above it now", h.Seen)
				}
				fmt.Fprintf(t.out, "%s: %s\n", plain(h.Host), text)
			}
			for _, h := range out.Missed {
				fmt.Fprintf(t.out, "%s: not reached: %s\n", plain(h.Host), plain(h.Why))
			}
			if len(out.Newer) > 0 && !*raise {
				fmt.Fprintln(t.out, "wladder drift shows which files differ from what the database knows. To go on with these hosts: wladder hosts-newer -raise")
			}
		}
		if len(out.Missed) > 0 || len(out.Newer) > 0 && !*raise {
			return errNotWell
		}
		return nil
	}
}}
