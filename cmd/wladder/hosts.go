package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"sort"
	"strings"
	"time"

	"wladder/core/view"
)

var hostsCommand = command{"hosts", "[PART-OF-NAME]", "the machines", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	var wanted []string
	where := f.String("where", "", "only the hosts that this expression fits")
	f.Func("label", "`KEY=VALUE`: hosts with this label alone; may be repeated, and all must fit", func(s string) error {
		if key, _, ok := strings.Cut(s, "="); !ok || key == "" {
			return fmt.Errorf("want KEY=VALUE")
		}
		wanted = append(wanted, s)
		return nil
	})
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) > 1 {
			return usagef("want at most a part of the hosts' names")
		}
		found, err := t.client().Hosts(ctx, strings.Join(args, ""), *where, wanted...)
		return list(t, found, err, len(args)+len(wanted)+len(*where) > 0, []string{"HOST", "ADDRESS", "LABELS", "SYSTEM", "SURVEYED"}, func(h view.Host) []string {
			surveyed, system := "never surveyed", ""
			if h.SurveyedAt != nil {
				surveyed = ago(*h.SurveyedAt)
				system = fmt.Sprintf("%s %s, %s, %d MiB", h.Traits.OS, h.Traits.OSVersion, counted(int(h.Traits.Cores), "core"), h.Traits.Memory>>20)
			}
			return []string{h.Name, h.Address, labels(h), system, surveyed}
		})
	}
}}

func labels(h view.Host) string {
	var all []string
	for k, v := range h.Labels {
		all = append(all, k+"="+v)
	}
	sort.Strings(all)
	return strings.Join(all, " ")
}

var hostCommand = command{"host", "NAME", "one machine", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	raise := f.Bool("raise-fence", false, "have our next fence be above what the host has seen: after the database was restored from an older copy")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want the name of one host")
		}
		if *raise {
			out, err := t.client().RaiseFence(ctx, args[0])
			if err == nil {
				fmt.Fprintf(t.out, "the fence of %s is raised to %d\n", plain(args[0]), out.To)
			}
			return err
		}
		h, err := t.client().Host(ctx, args[0])
		if err != nil {
			return err
		}
		if ok, err := t.show(h); ok {
			return err
		}
		fmt.Fprintf(t.out, "%s\n  address   %s, as %s\n  host key  %s\n  labels    %s\n", plain(h.Name), h.Address, plain(h.Login), strings.TrimSpace(plain(h.HostKey)), plain(labels(h)))
		if h.SurveyedAt == nil {
			fmt.Fprintln(t.out, "  never surveyed")
			return nil
		}
		fmt.Fprintf(t.out, "  system    %s %s (%s), kernel %s, %s, %d MiB\n  surveyed  %s\n", h.Traits.OS, h.Traits.OSVersion, h.Traits.Family, plain(strings.TrimSpace(h.Traits.Kernel+" "+h.Traits.Arch)), counted(int(h.Traits.Cores), "core"), h.Traits.Memory>>20, when(*h.SurveyedAt))
		if up := time.Duration(h.Traits.Uptime) * time.Second; up > 0 {
			fmt.Fprintf(t.out, "  up        %s then", spoken(up))
			if ahead := h.Traits.Clock; ahead != 0 {
				fmt.Fprintf(t.out, ", its clock %+d s from the server's", ahead)
			}
			fmt.Fprintln(t.out)
		}
		return nil
	}
}}

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
	Name    string            `yaml:"name"`
	Address string            `yaml:"address"`
	Login   string            `yaml:"login"`
	HostKey string            `yaml:"host_key"`
	Sudo    bool              `yaml:"sudo"`
	Labels  map[string]string `yaml:"labels"`
}

var hostsLoad = command{"hosts-load", "FILE", "add machines, or bring them up to date, from YAML, CSV or an ssh_config", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	known := f.String("known-hosts", "", "a known_hosts `FILE`: the keys of hosts that have none in the other")
	check := f.Bool("check", false, "say what would be loaded, and load nothing")
	return func(ctx context.Context, t *terminal, args []string) error {
		if len(args) != 1 {
			return usagef("want one file")
		}
		data, err := os.ReadFile(args[0])
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
				rows = append(rows, []string{h.Name, h.Address, h.Login, labels(view.Host{Labels: h.Labels}), key})
			}
			t.table([]string{"HOST", "ADDRESS", "LOGIN", "LABELS", "HOST KEY"}, rows)
			if keyless > 0 {
				return errNotWell
			}
			return nil
		}
		var hosts []view.Host
		for _, h := range read {
			hosts = append(hosts, view.Host{Name: h.Name, Address: h.Address, Login: h.Login, HostKey: h.HostKey, Sudo: h.Sudo, Labels: h.Labels})
		}
		out, err := t.client().LoadHosts(ctx, hosts)
		if err != nil {
			return err
		}
		fmt.Fprintf(t.out, "%s loaded, %d of them new\n", counted(len(hosts), "host"), out.Added)
		if out.Request != 0 {
			fmt.Fprintf(t.out, "%s reached in another way from then on; ", counted(out.Asked, "host"))
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
		if ok, err := t.show(out); ok {
			return err
		}
		fmt.Fprintf(t.out, "%s surveyed\n", counted(out.Hosts-len(out.Failed), "host"))
		for _, why := range out.Failed {
			fmt.Fprintln(t.out, plain(why))
		}
		if len(out.Failed) > 0 {
			return errNotWell
		}
		return nil
	}
}}
