package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/plan"
	"wladder/core/render"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/host"
	"wladder/store"
)

// onHost is a service on a host, with its files as they are there now.
type onHost struct {
	*definition.Service
	instance string
	files    []onHostFile
	all      conf.Files
	redactor *secret.Redactor
}

type onHostFile struct {
	view.HostFile
	doc   *conf.Document // nil where there is a problem
	judge secret.Judge
}

// read reads the files of a service on a host, as its approved definition names them: of each
// instance there.
func (e *Engine) read(ctx context.Context, h view.Host, svc *concerned) ([]onHost, error) {
	if aside := h.Aside(); aside != "" {
		return nil, errAside(aside)
	}
	if yes, err := svc.carries.Bool(h.Expr().Vars()); h.SurveyedAt != nil && (err != nil || !yes) {
		return nil, err
	}
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if h.SurveyedAt == nil { // what its traits are says whether it carries the service, and where
		if h.Traits, err = conn.Survey(ctx, svc.Wants()); err != nil {
			return nil, err
		}
	}
	yes, err := svc.carries.Bool(h.Expr().Vars())
	if err != nil || !yes {
		return nil, err
	}
	var all []onHost
	var paths []string
	var at [][2]int
	for _, instance := range svc.On(h.Expr()) {
		here, err := svc.Here(h.Expr(), instance)
		if err != nil {
			return nil, err
		}
		one := onHost{Service: here, instance: instance, redactor: &secret.Redactor{}}
		for _, key := range slices.Sorted(maps.Keys(here.Files)) {
			f := onHostFile{HostFile: view.HostFile{Instance: instance, Key: key, Path: here.Files[key].Path(h.Traits.Family)}, judge: here.Secrets(key)}
			switch {
			case f.Path == "":
				f.Problem = fmt.Sprintf("there is no path for the family %q", h.Traits.Family)
			case here.Made(key):
				f.Problem = "its content stays on the host"
			default:
				paths, at = append(paths, f.Path), append(at, [2]int{len(all), len(one.files)})
			}
			one.files = append(one.files, f)
		}
		all = append(all, one)
	}
	var found []render.Found
	if len(paths) > 0 {
		if found, err = conn.Collect(ctx, paths); err != nil {
			return nil, err
		}
	}
	for i, copied := range found {
		one := &all[at[i][0]]
		f := &one.files[at[i][1]]
		f.Owner, f.Group, f.Mode = copied.Owner, copied.Group, copied.Mode
		switch {
		case copied.Missing:
			f.Problem = "does not exist"
		case copied.Kind != "regular file":
			f.Problem = "is a " + copied.Kind
		case len(copied.Content) == 0 && copied.Sum != "":
			f.Problem = "its content stays on the host"
		default:
			text, doc, err := masked(one.redactor, f.judge, f.Path, one.Files[f.Key].Format, copied.Content)
			if f.Text = string(text); err != nil {
				f.Problem = err.Error()
			} else {
				f.doc = doc
				one.all.Documents = append(one.all.Documents, doc)
			}
		}
	}
	return all, nil
}

// settings gives what one file says, with what becomes of it, secrets covered.
func (o onHost) settings(f onHostFile) []conf.Setting {
	var all []conf.Setting
	for _, s := range o.all.Settings() {
		if s.File == f.Path {
			all = append(all, o.covered(f, s))
		}
	}
	return all
}

func (o onHost) covered(f onHostFile, s conf.Setting) conf.Setting {
	if len(f.judge(s.Address, s.Value)) > 0 {
		s.Value = secret.Placeholder
	}
	s.Value, s.Why = o.redactor.Clean(s.Value), o.redactor.Clean(s.Why)
	return s
}

// approvedService gives the definition of a service that serves hosts.
func (e *Engine) approvedService(ctx context.Context, name string) (*concerned, error) {
	version, err := e.Store.ApprovedService(ctx, name)
	if err != nil {
		return nil, err
	}
	svc, err := e.service(ctx, name, version.Digest)
	if err != nil {
		return nil, err
	}
	all, err := concern(&change.Spec{}, []*definition.Service{svc})
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// HostFiles shows the files of a service on a host, as they are there now: one of them by its
// key, or all.
func (e *Engine) HostFiles(ctx context.Context, name, service, key string) (out view.HostFiles, err error) {
	h, err := e.Store.Host(ctx, name)
	if err != nil {
		return out, err
	}
	svc, err := e.approvedService(ctx, service)
	if err != nil {
		return out, err
	}
	if _, there := svc.Files[key]; key != "" && !there {
		return out, &store.NotFound{What: fmt.Sprintf("file %s of service %s (it has %s)", key, service, strings.Join(slices.Sorted(maps.Keys(svc.Files)), ", "))}
	}
	out = view.HostFiles{Host: name, Service: service, ReadAt: time.Now().UTC(), Files: []view.HostFile{}}
	all, err := e.read(ctx, h, svc)
	if err == nil && len(all) == 0 {
		err = &store.NotFound{What: fmt.Sprintf("service %s on %s, by its definition and the last survey", service, name)}
	}
	for _, one := range all {
		for _, f := range one.files {
			if key != "" && key != f.Key {
				continue
			}
			if f.doc != nil {
				f.Settings = one.settings(f)
			}
			var b strings.Builder
			for line := range strings.Lines(f.Text) {
				b.WriteString(one.redactor.Clean(line))
			}
			f.Text, f.Problem = b.String(), one.redactor.Clean(f.Problem)
			if len(f.Text) > maxDiff {
				f.Text, f.Problem = "", fmt.Sprintf("it is too long to be shown whole: %d KiB", len(f.Text)>>10)
			}
			out.Files = append(out.Files, f.HostFile)
		}
	}
	return out, err
}

// serviceOn reads a service on hosts; where one is not reached, it says why.
func (e *Engine) serviceOn(ctx context.Context, hosts []view.Host, svc *concerned, f func(h view.Host, all []onHost)) (missed map[string]string) {
	missed = map[string]string{}
	var mu sync.Mutex
	e.each(len(hosts), func(i int) {
		all, err := e.read(ctx, hosts[i], svc)
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			missed[hosts[i].Name] = host.Advised(err)
			return
		}
		f(hosts[i], all)
	})
	return missed
}

// Compare says what hosts say of one setting, gathered by value, or in which settings two
// hosts differ.
func (e *Engine) Compare(ctx context.Context, c view.Comparing) (out view.Compared, err error) {
	svc, err := e.approvedService(ctx, c.Service)
	if err != nil {
		return out, err
	}
	out = view.Compared{Service: c.Service, Address: c.Address}
	switch {
	case len(c.Hosts) == 2 && c.Address == "" && c.Where == "":
		return e.beside(ctx, svc, c, out)
	case len(c.Hosts) > 0:
		return out, &store.Unfit{What: "want two hosts, and neither address nor where; or an address"}
	}
	address, err := conf.ParseAddress(c.Address)
	if err != nil {
		return out, &store.Unfit{What: fmt.Sprintf("address %s: %v", c.Address, err)}
	}
	key, err := fileOf(svc, c.File)
	if err != nil {
		return out, err
	}
	names := []string{c.Address}
	otherwise := ""
	if rule := svc.SettingOf(key, address); rule != nil {
		names = slices.Concat([]string{rule.Address}, rule.Synonyms)
		if !slices.Contains(names, c.Address) {
			names = append([]string{c.Address}, names...)
		}
		otherwise = rule.Default
	}
	hosts, err := e.match(ctx, c.Where)
	if err != nil {
		return out, &store.Unfit{What: "where: " + err.Error()}
	}
	if len(hosts) == 0 {
		return out, &store.Unfit{What: "where matches no host: " + c.Where}
	}
	values := map[string]*view.ComparedValue{}
	out.Missed = e.serviceOn(ctx, hosts, svc, func(h view.Host, all []onHost) {
		for _, one := range all {
			at := slices.IndexFunc(one.files, func(f onHostFile) bool { return f.Key == key })
			value, as, there := one.says(one.files[at], names)
			name := h.Name
			if one.instance != "" {
				name += " (" + one.instance + ")"
			}
			id := "set " + value
			if !there {
				if value, id = otherwise, "missing"; one.files[at].Problem != "" {
					value = one.files[at].Problem
					id += value
				}
			}
			v := values[id]
			if v == nil {
				v = &view.ComparedValue{Value: value, Missing: !there}
				values[id] = v
			}
			if as != "" && as != c.Address && !slices.Contains(v.As, as) {
				v.As = append(v.As, as)
			}
			v.Count++
			v.Hosts = append(v.Hosts, name)
		}
		if len(all) > 0 {
			out.Hosts++
		}
	})
	for _, v := range values {
		slices.Sort(v.Hosts)
		slices.Sort(v.As)
		out.Values = append(out.Values, *v)
	}
	slices.SortFunc(out.Values, func(a, b view.ComparedValue) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Value, b.Value))
	})
	return out, nil
}

// says gives the value that counts at one of several addresses of a file, secrets covered.
func (o onHost) says(f onHostFile, names []string) (value, as string, there bool) {
	if f.doc == nil {
		return "", "", false
	}
	found := map[int]conf.Setting{}
	for _, s := range o.all.Settings() {
		if s.File == f.Path && !s.CommentedOut {
			found[s.Line] = o.covered(f, s)
		}
	}
	for _, name := range names {
		if _, line, ok := f.doc.Get(name); ok {
			s, listed := found[line]
			if listed && s.InForce == conf.Lost && there {
				continue
			}
			if v, _, _ := f.doc.Get(name); !listed {
				s.Value = o.covered(f, conf.Setting{Address: name, Value: v}).Value
			}
			value, as, there = s.Value, name, true
			if listed && s.InForce != conf.Lost {
				return value, as, there
			}
		}
	}
	return value, as, there
}

// beside lays two hosts side by side: the settings in which they differ.
func (e *Engine) beside(ctx context.Context, svc *concerned, c view.Comparing, out view.Compared) (view.Compared, error) {
	var hosts []view.Host
	for _, name := range c.Hosts {
		h, err := e.Store.Host(ctx, name)
		if err != nil {
			return out, err
		}
		hosts = append(hosts, h)
	}
	type at struct{ file, address string }
	said := [2]map[at]string{{}, {}}
	var orders [2][]at // as each host has them
	out.Missed = e.serviceOn(ctx, hosts, svc, func(h view.Host, all []onHost) {
		i := slices.Index(c.Hosts, h.Name)
		for _, one := range all {
			for _, f := range one.files {
				if c.File != "" && c.File != f.Key {
					continue
				}
				name := definition.InstanceName(f.Key, one.instance)
				for _, s := range one.settings(f) {
					if k := (at{name, s.Address}); !s.CommentedOut {
						if _, there := said[i][k]; !there {
							orders[i] = append(orders[i], k)
						}
						said[i][k] = s.Value
					}
				}
				if f.Problem != "" {
					k := at{name, ""}
					said[i][k] = f.Problem
					orders[i] = append(orders[i], k)
				}
			}
		}
		if len(all) > 0 {
			out.Hosts++
		}
	})
	seen := map[at]bool{}
	order := slices.Concat(orders[0], orders[1])
	slices.SortStableFunc(order, func(a, b at) int { return cmp.Compare(a.file, b.file) })
	for _, k := range order {
		if seen[k] {
			continue
		}
		seen[k] = true
		d := view.ComparedSetting{File: k.file, Address: k.address}
		for i := range said {
			d.Values[i], d.There[i] = said[i][k]
		}
		if d.Values[0] == d.Values[1] && d.There[0] == d.There[1] {
			out.Alike++
		} else if len(out.Missed) == 0 {
			out.Differ = append(out.Differ, d)
		}
	}
	return out, nil
}

// History tells what became of one setting of a host, the oldest first: what changes made of
// it, and what somebody did past this server in between, and since.
func (e *Engine) History(ctx context.Context, name, service, key, address string) ([]view.Told, error) {
	h, err := e.Store.Host(ctx, name)
	if err != nil {
		return nil, err
	}
	svc, err := e.approvedService(ctx, service)
	if err != nil {
		return nil, err
	}
	if _, err := conf.ParseAddress(address); err != nil {
		return nil, &store.Unfit{What: fmt.Sprintf("address %s: %v", address, err)}
	}
	if key, err = fileOf(svc, key); err != nil {
		return nil, err
	}
	now, err := e.read(ctx, h, svc)
	if err != nil {
		return nil, err
	}
	told := []view.Told{}
	for _, one := range now {
		f := one.files[slices.IndexFunc(one.files, func(f onHostFile) bool { return f.Key == key })]
		past, err := e.pastOf(ctx, h, one, f, address)
		if err != nil {
			return nil, err
		}
		told = append(told, past...)
	}
	return told, nil
}

// fileOf gives the key of a file that somebody asks for, or, of none, that of a service's only one.
func fileOf(svc *concerned, key string) (string, error) {
	key = cmp.Or(key, svc.OnlyFile())
	if _, there := svc.Files[key]; !there {
		return "", &store.Unfit{What: fmt.Sprintf("file %q is not one of service %s; it has %s", key, svc.Name, strings.Join(slices.Sorted(maps.Keys(svc.Files)), ", "))}
	}
	return key, nil
}

// pastOf tells of a setting of one file.
func (e *Engine) pastOf(ctx context.Context, h view.Host, one onHost, f onHostFile, address string) (told []view.Told, err error) {
	past, err := e.Store.History(ctx, h.ID, f.Path)
	if err != nil {
		return nil, err
	}
	was, known := "", false // as it was left
	for _, p := range past {
		leaf, err := e.Store.Leaf(ctx, p.Plan, h.ID)
		if err != nil {
			return nil, err
		}
		for _, part := range leaf.Parts {
			for _, file := range part.Files {
				if file.Resolved != f.Path {
					continue
				}
				before, there := e.valueIn(ctx, one, f, file.Format, file.Base, address)
				after, kept := e.valueIn(ctx, one, f, file.Format, file.Candidate, address)
				if known && there && before != was {
					told = append(told, view.Told{At: p.At, Path: f.Path, From: was, To: before, What: fmt.Sprintf("found so by change %d: somebody had edited it past this server", p.Change)})
				}
				t := view.Told{At: p.At, Change: p.Change, Title: p.Title, By: p.By, Path: f.Path, From: before, To: after}
				switch {
				case !there || !kept:
					t.What = "what stood in the file then is not kept any more"
				case before == after:
					t.What = "the file was changed, this setting was not"
				}
				told = append(told, t)
				was, known = after, kept
			}
		}
	}
	if f.doc != nil && known {
		if value, _, _ := one.says(f, []string{address}); value != was {
			told = append(told, view.Told{At: time.Now().UTC(), Path: f.Path, From: was, To: value, What: "found so now: somebody has edited it past this server"})
		}
	}
	return told, nil
}

// valueIn gives what a stored copy says at an address, secrets covered; there is false where
// its content is not kept.
func (e *Engine) valueIn(ctx context.Context, one onHost, f onHostFile, format conf.Format, ref plan.CopyRef, address string) (value string, there bool) {
	if ref.Kind != plan.Regular || ref.Content == "" {
		return "", ref.Kind == plan.Absent
	}
	content, err := e.Store.Content(ctx, ref.Content)
	if err != nil {
		return "", false
	}
	doc, err := conf.Parse(f.Path, format, content)
	if err != nil {
		return "", false
	}
	one.redactor.AddFile(f.judge, content, doc)
	v, _, _ := doc.Get(address)
	return one.covered(f, conf.Setting{Address: address, Value: v}).Value, true
}
