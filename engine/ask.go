package engine

import (
	"cmp"
	"context"
	"encoding/pem"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"wladder/core/definition"
	"wladder/core/probe"
	"wladder/core/secret"
	"wladder/core/view"
	"wladder/host"
)

// asker puts probes to one host.
type asker struct {
	put      func(context.Context, []host.Question) ([]host.Reply, error) // questions to the host itself
	way      host.Way                                                     // of questions over the network
	of       map[string]serving                                           // what probes of a service may name, by its name
	secrets  map[string]string
	redactor *secret.Redactor
	// before tells that nobody has approved what is asked, beside the first approved
	// probes, which are an approved definition's.
	before   bool
	approved int
}

// serving is what the probes of one service may name.
type serving struct {
	at       int               // among the services of a run
	pins     map[string]string // where certificates lie, by their files' keys
	commands map[string]definition.Command
	vouched  map[string]string // what those say, once they are read: hashes of certificates
}

// newAsker puts probes to the host at the other end of a connection.
func newAsker(conn Conn, address, hostKey string) asker {
	return asker{way: host.Way{Address: ipOf(address), HostKey: hostKey, Inside: conn.Inside, Outside: conn.Outside}}
}

// waits says why the probe at i is not asked yet; empty where it is.
func (a asker) waits(i int, p probe.Probe) string {
	if !a.before || i < a.approved {
		return ""
	}
	return p.Waits()
}

// outsideRuns puts questions that belong to no host run.
func outsideRuns(conn Conn) func(context.Context, []host.Question) ([]host.Reply, error) {
	return func(ctx context.Context, questions []host.Question) ([]host.Reply, error) {
		return conn.Ask(ctx, "none", host.ForwardAct, questions)
	}
}

// ipOf gives the address that network questions go to.
func ipOf(address string) string {
	if ip, _, err := net.SplitHostPort(address); err == nil {
		return ip
	}
	return address
}

// ask gives the verdicts in the probes' order, and the replies to questions
// that are put beside them in the same round trip. The error tells that the
// host was lost, not that a probe is ill.
func (a asker) ask(ctx context.Context, at probe.Phase, probes []probe.Probe, beside ...host.Question) ([]probe.Verdict, []host.Reply, error) {
	if err := a.readPins(ctx, probes); err != nil {
		return nil, nil, err
	}
	tries := make([][]probe.Verdict, len(probes))
	for i, p := range probes {
		if why := a.waits(i, p); why != "" {
			tries[i] = []probe.Verdict{{Probe: p.Name, Waits: true, Why: "asked after approval: " + why}}
		}
	}
	var replies []host.Reply
	for round := 0; round == 0 || slices.ContainsFunc(probes, func(p probe.Probe) bool { return p.Tries > round }); round++ {
		answers, more, err := a.round(ctx, probes, round, beside)
		if err != nil {
			return nil, nil, err
		}
		if round == 0 {
			replies, beside = more, nil
		}
		for i, answer := range answers {
			if answer != nil {
				v := probes[i].Judge(at, *answer)
				v.Why = a.redactor.Clean(v.Why)
				tries[i] = append(tries[i], v)
			}
		}
	}
	all := make([]probe.Verdict, len(probes))
	for i, p := range probes {
		all[i] = p.Together(tries[i])
	}
	return all, replies, ctx.Err()
}

// round asks each probe once that has so many tries; the others stay nil.
func (a asker) round(ctx context.Context, probes []probe.Probe, round int, beside []host.Question) ([]*probe.Answer, []host.Reply, error) {
	answers := make([]*probe.Answer, len(probes))
	questions := slices.Clone(beside)
	asking := make([]int, len(beside)) // the probe of each question behind those beside
	var network sync.WaitGroup
	for i, p := range probes {
		if round > 0 && round >= p.Tries || a.waits(i, p) != "" {
			continue
		}
		ask, err := probe.ParseAsk(p.Ask)
		if err != nil {
			return nil, nil, err
		}
		if ask.Open {
			return nil, nil, fmt.Errorf("probe %s: a value that it asks with is not known", p.Name)
		}
		ask = ask.Filled(a.secrets)
		if !ask.Kind.Network() {
			of := a.of[p.Service]
			questions = append(questions, host.Question{Ask: ask, Command: of.commands[ask.Name], Service: of.at})
			asking = append(asking, i)
			continue
		}
		network.Go(func() {
			answer := a.network(ctx, p, ask)
			answers[i] = &answer
		})
	}
	var replies []host.Reply
	var err error
	if len(questions) > 0 {
		replies, err = a.put(ctx, questions)
	}
	network.Wait()
	if err != nil {
		return nil, nil, err
	}
	for k := len(beside); k < len(replies); k++ {
		answers[asking[k]] = &replies[k].Answer
	}
	return answers, replies[:len(beside)], nil
}

func (a asker) network(ctx context.Context, p probe.Probe, ask probe.Ask) probe.Answer {
	var first []probe.Ask
	for _, f := range p.First {
		one, err := probe.ParseFirst(f)
		if err != nil {
			return probe.Answer{Failure: err.Error()}
		}
		first = append(first, one.Filled(a.secrets))
	}
	way := a.way
	way.Pins = a.of[p.Service].vouched
	began := time.Now()
	answer := host.AskNetwork(ctx, way, p, ask, first)
	if p.Hold == 0 {
		answer.Took = time.Since(began)
	}
	return answer
}

// readPins has the host say which certificates lie in the files that probes pin by.
func (a asker) readPins(ctx context.Context, probes []probe.Probe) error {
	type pin struct{ service, key string }
	var keys []pin
	var questions []host.Question
	for i, p := range probes {
		for _, key := range p.PinFiles() {
			if at := a.of[p.Service].pins[key]; at != "" && a.waits(i, p) == "" && !slices.Contains(keys, pin{p.Service, key}) {
				keys = append(keys, pin{p.Service, key})
				questions = append(questions, host.Question{Ask: probe.Ask{Kind: probe.File, Path: at}})
			}
		}
	}
	if len(keys) == 0 {
		return nil
	}
	replies, err := a.put(ctx, questions)
	if err != nil {
		return err
	}
	for name, s := range a.of {
		s.vouched = map[string]string{}
		a.of[name] = s
	}
	for i, pin := range keys {
		if block, _ := pem.Decode([]byte(replies[i].Content)); block != nil && block.Type == "CERTIFICATE" {
			a.of[pin.service].vouched[pin.key] = host.Hash(block.Bytes)
		}
	}
	return nil
}

// Ask puts probes to all hosts that an expression fits, without a change, and
// gathers the hosts that answer alike. Commands and paths are those of the approved
// definition named service, which may be empty. It is recorded.
func (e *Engine) Ask(ctx context.Context, actor, where, service string, asks []string) (view.AskedHosts, error) {
	var out view.AskedHosts
	hosts, err := e.match(ctx, where)
	if err != nil {
		return out, err
	}
	if len(hosts) == 0 {
		return out, fmt.Errorf("where matches no host: %s", where)
	}
	a := asker{redactor: &secret.Redactor{}, before: true}
	may := (&definition.Service{}).Allowed()
	if service != "" {
		version, err := e.Store.ApprovedService(ctx, service)
		if err != nil {
			return out, err
		}
		svc, err := definition.Stored(service, version.Names, []byte(version.Source))
		if err != nil {
			return out, err
		}
		a.of, may = map[string]serving{"": {commands: svc.Commands}}, svc.Allowed()
	}
	var probes []probe.Probe
	for _, line := range asks {
		p := probe.Probe{Name: line, Ask: line, Expect: "true"}
		if err := p.Check(); err != nil {
			return out, err
		}
		if why := p.Waits(); why != "" {
			return out, fmt.Errorf("ask %q: %s; without an approval only GET, HEAD, OPTIONS without secrets and bare connections are sent. Write it as a probe of the service's definition", line, why)
		}
		if err := p.Within(may); err != nil {
			if service == "" {
				err = fmt.Errorf("%w; name the service, with -service", err)
			}
			return out, fmt.Errorf("ask %q: it %w", line, err)
		}
		probes = append(probes, p)
	}
	if err := e.Store.NoteAsk(ctx, actor, where, service, asks, len(hosts)); err != nil {
		return out, err
	}
	out.Hosts = len(hosts)
	found := make([][]probe.Verdict, len(hosts))
	failed := make([]error, len(hosts))
	e.each(len(hosts), func(i int) { found[i], failed[i] = e.askOne(ctx, a, hosts[i], probes) })
	for n, p := range probes {
		out.Answers = append(out.Answers, gather(p.Ask, n, hosts, found, failed))
	}
	return out, ctx.Err()
}

func (e *Engine) askOne(ctx context.Context, a asker, h view.Host, probes []probe.Probe) ([]probe.Verdict, error) {
	if aside := h.Aside(); aside != "" {
		return nil, errAside(h.Name + ": " + aside)
	}
	conn, err := e.Dialer.Connect(ctx, target(h))
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	one := newAsker(conn, h.Address, h.HostKey)
	a.put, a.way = outsideRuns(conn), one.way
	verdicts, _, err := a.ask(ctx, probe.Later, probes)
	for i := range verdicts { // hosts that differ in their address alone answer alike
		verdicts[i].Why = strings.ReplaceAll(verdicts[i].Why, a.way.Address+":", "its own address:")
	}
	return verdicts, err
}

// gather puts hosts together that answer a question alike, the largest part
// first; those without an answer come last, by reason.
func gather(ask string, n int, hosts []view.Host, found [][]probe.Verdict, failed []error) view.Answer {
	parts := map[string]*view.AnswerGroup{}
	for i, h := range hosts {
		value, missing := "", failed[i] != nil
		if missing {
			value = strings.TrimPrefix(failed[i].Error(), h.Name+": ")
		} else {
			value = found[i][n].Why
		}
		key := fmt.Sprint(missing, value)
		if parts[key] == nil {
			parts[key] = &view.AnswerGroup{Value: value, Missing: missing}
		}
		parts[key].Hosts = append(parts[key].Hosts, h.Name)
	}
	out := view.Answer{Ask: ask}
	for _, key := range slices.Sorted(maps.Keys(parts)) {
		out.Groups = append(out.Groups, *parts[key])
	}
	slices.SortStableFunc(out.Groups, func(a, b view.AnswerGroup) int {
		switch {
		case a.Missing && !b.Missing:
			return 1
		case b.Missing && !a.Missing:
			return -1
		}
		return cmp.Compare(len(b.Hosts), len(a.Hosts))
	})
	return out
}
