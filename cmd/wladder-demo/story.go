package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"wladder/core/view"
	"wladder/demo"
	"wladder/standin"
)

// story walks through what a team does around changes: policy, review, hosts that come later,
// what goes back, and what became of it all. Each command's exit status must be the one
// expected, and hosts are held against what is said of them.
func (o *office) story(ctx context.Context) error {
	if err := o.Set(ctx); err != nil {
		return err
	}
	t := &guide{ctx: ctx, office: o}
	policy := string(demo.File("story/policy.yaml"))
	open, _, _ := strings.Cut(policy, "freezes:")
	for name, text := range map[string]string{"form.yaml": string(demo.File("story/form.yaml")), "policy.yaml": policy, "after-the-exercise.yaml": open} {
		if err := os.WriteFile(filepath.Join(o.dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	o.Hosts["bulletin-coast-03"].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 768"}) // what a warning is about
	later := "bulletin-coast-07"                                                                                   // as if it were built later
	ada, err := o.As(ctx, "ada")
	if err == nil {
		err = ada.RetireHost(ctx, later, "it is built anew")
	}
	if err != nil {
		return err
	}
	t.reviewed(later)
	t.temporary()
	t.takenBack()
	t.emergency()
	t.lookedBack()
	if t.err == nil {
		fmt.Println("\nAll as it should be.")
	}
	return t.err
}

// reviewed takes a change through a review under a policy, and to its hosts in three goes.
func (g *guide) reviewed(later string) {
	g.say("Two admins agree on a policy: two approvals for bulletin hosts, warnings acknowledged, threads settled, a freeze on the coast.")
	g.as("ada")
	g.wladder(0, "policy-load", "policy.yaml")
	g.as("ben")
	g.wladder(0, "request", "1")
	g.wladder(0, "request", "-agree", "1")
	g.wladder(0, "policy")

	g.say("Ines keeps a change as a form, and fills it in.")
	g.as("ines")
	g.wladder(0, "form-load", "form.yaml")
	g.wladder(0, "forms", "connections")
	g.wladder(1, "draft", "-form", "connections", "-fill", "limit=90000", "-fill", "site=coast")
	g.wladder(0, "draft", "-form", "connections", "-fill", "limit=3072", "-fill", "site=coast")
	g.wladder(0, "rehearse", "1")
	g.wladder(0, "offer", "1")

	g.say("Oda approves once she has acknowledged the warning. Kai has a question about a line.")
	first := g.digestOf(1)
	g.as("oda")
	g.wladder(4, "approve", "-digest", first, "1")
	g.wladder(0, "findings", "1")
	g.wladder(0, "acknowledge", "-because", "its pages fail for want of connections; this change is what helps", "1", g.warning(1))
	g.wladder(0, "approve", "-digest", first, "1")
	g.as("kai")
	g.wladder(0, "comment", "-group", g.group(1), "-at", "/etc/nginx/nginx.conf:7", "1", "The open-files limit is 4096. Does 3072 leave enough for the pages themselves?")
	g.wladder(4, "approve", "-digest", first, "1")

	g.say("Ines answers with a new revision: the approval is void, and the reviewers see what differs.")
	g.as("ines")
	g.wladder(0, "comment", "-to", "1", "1", "No; 2048 does. Revision 2 says so.")
	g.revise(1, "3072", "2048")
	g.wladder(0, "draft", "-change", "1", "revised.yaml")
	g.wladder(0, "rehearse", "1")
	g.wladder(0, "offer", "1")
	second := g.digestOf(1)
	g.as("kai")
	g.wladder(0, "diff", "-since", first[:min(len(first), 12)], "1")
	g.wladder(0, "comment", "-settle", "1", "1")
	g.wladder(0, "acknowledge", "1", g.warning(1))
	g.wladder(0, "approve", "-digest", second, "1")
	g.as("oda")
	g.wladder(0, "show", "1")
	g.wladder(0, "approve", "-digest", second, "1")

	g.say("The freeze holds the start, until two admins agree that the exercise is over. One host is out of reach meanwhile.")
	g.as("ines")
	g.wladder(4, "climb", "1")
	g.as("ada")
	g.wladder(0, "policy-load", "after-the-exercise.yaml")
	g.as("ben")
	g.wladder(0, "request", "2")
	g.wladder(0, "request", "-agree", "2")
	lost := g.office.Hosts["bulletin-coast-08"]
	lost.Script(&standin.Fault{Do: standin.CutBefore})
	g.as("ines")
	g.wladder(1, "climb", "-follow", "1")

	g.say("It is back: it is taken under the same approval, while that lasts.")
	lost.Mend()
	g.office.Hosts["bulletin-coast-03"].Mend()
	g.wladder(0, "show", "1")
	g.wladder(0, "climb", "-missed", "-follow", "1")

	g.say("A host that was built since gets the same in a follow-up, with a digest and approvals of its own; the reviewers see that it comes to the very same.")
	g.load(later)
	g.wladder(0, "follow-up", "1")
	g.wladder(0, "rehearse", "2")
	g.wladder(0, "diff", "2")
	g.approved(2)
	g.wladder(0, "climb", "-follow", "2")
	g.holds(later, "worker_connections 2048;")
}

// temporary derives a change from an edited copy, and has it go back by itself.
func (g *guide) temporary() {
	g.say("A temporary change, derived from a copy of a host's file that Ines edited by hand.")
	g.as("ines")
	g.capture("copy.conf", "host", "-service", "bulletin-pages", "-file", "main", "bulletin-delta-01")
	g.edit("copy.conf", "worker_connections 768;", "worker_connections 1500;")
	g.wladder(0, "draft", "-edited", "copy.conf", "-host", "bulletin-delta-01", "-service", "bulletin-pages", "-for", "2s", "-title", "A trial of 1500 connections", "-reason", "to see what the pages need")
	g.wladder(0, "rehearse", "3")
	g.approved(3)
	g.wladder(0, "climb", "-follow", "3")
	g.until(3, func(d view.ChangeDetail) bool { return d.State == "countered" })
	g.wladder(0, "show", "3")
	g.holds("bulletin-delta-01", "worker_connections 768;")
}

// takenBack drafts the opposite of the first change, after somebody edited one of its hosts.
func (g *guide) takenBack() {
	g.say("The first change is to be taken back, and somebody has edited one of its hosts by hand: that one is shown, and not trampled.")
	h := g.office.Hosts["bulletin-coast-02"]
	data, _ := h.Files.Read(webConf)
	h.Files.Write(webConf, bytes.Replace(data, []byte("worker_connections 2048;"), []byte("worker_connections 2500;"), 1))
	g.wladder(0, "counter", "-because", "the flood is over", "1")
	g.wladder(1, "rehearse", "4")
	g.approved(4)
	g.wladder(0, "climb", "-follow", "4")
	g.holds("bulletin-coast-01", "worker_connections 768;")
	g.holds("bulletin-coast-02", "worker_connections 2500;")
}

// emergency has somebody act alone at night, and somebody else look at it afterwards.
func (g *guide) emergency() {
	g.say("At night Ines acts alone, as policy lets her; Oda looks at it in the morning.")
	g.wladder(0, "draft", "-form", "connections", "-fill", "limit=4096", "-fill", "site=upland")
	g.wladder(0, "rehearse", "5")
	g.wladder(0, "offer", "5")
	digest := g.digestOf(5)
	g.wladder(0, "approve", "-emergency", "-because", "the upland pages refuse connections", "-digest", digest, "5")
	g.wladder(0, "climb", "-follow", "5")
	g.wladder(0, "changes")
	g.as("oda")
	g.wladder(0, "review", "-because", "it was right; the limit stays", "5")
}

// lookedBack asks what became of it all.
func (g *guide) lookedBack() {
	g.say("What became of it: one setting over the fleet, what drifted, the past of a setting, and the record, checked with no server.")
	g.as("ines")
	g.wladder(0, "compare", "-service", "bulletin-pages", "events/worker_connections")
	g.wladder(0, "compare", "-service", "bulletin-pages", "-hosts", "bulletin-coast-02,bulletin-upland-01")
	g.wladder(1, "drift", "-now")
	g.wladder(0, "host", "-service", "bulletin-pages", "-history", "events/worker_connections", "bulletin-coast-02")
	g.wladder(0, "settings", "-host", "bulletin-coast-02", "-service", "bulletin-pages")
	if g.err == nil {
		key, err := exec.CommandContext(g.ctx, filepath.Join(g.office.bin, "wladderd"), "show-record-key", "-data", filepath.Join(g.office.dir, "server")).Output()
		if err == nil {
			err = os.WriteFile(filepath.Join(g.office.dir, "record-key"), key, 0o644)
		}
		g.err = err
	}
	g.wladder(0, "record", "-export", "record.jsonl")
	g.wladder(0, "record", "-check", "record.jsonl", "-key", "record-key")
}

const webConf = "/etc/nginx/nginx.conf"

// as goes on as somebody, who signs in the first time.
func (g *guide) as(name string) {
	if g.known[name] {
		g.who = name
		if g.err == nil {
			fmt.Printf("\n(%s)\n", name)
		}
		return
	}
	if g.known == nil {
		g.known = map[string]bool{}
	}
	g.known[name] = true
	g.signIn(name)
}

// detail reads a change, as Ines.
func (g *guide) detail(id int64) (d view.ChangeDetail) {
	if g.err != nil {
		return d
	}
	if g.reader == nil {
		g.reader, g.err = g.office.As(g.ctx, "ines")
	}
	if g.err == nil {
		d, g.err = g.reader.Change(g.ctx, id)
	}
	return d
}

func (g *guide) digestOf(id int64) string {
	if r := g.detail(id).Rehearsal; r != nil {
		return r.Digest
	}
	return ""
}

// warning gives the id of the first warning of a change that nobody acknowledged.
func (g *guide) warning(id int64) string {
	open := g.detail(id).Review.Open
	if len(open) == 0 {
		g.fail("change %d has no warning to acknowledge", id)
		return ""
	}
	return open[0]
}

// group gives the key of a change's largest diff group.
func (g *guide) group(id int64) (key string) {
	most := 0
	if r := g.detail(id).Rehearsal; r != nil {
		for _, one := range r.Groups {
			if one.Count > most {
				most, key = one.Count, one.Key
			}
		}
	}
	return key
}

func (g *guide) fail(format string, args ...any) {
	if g.err == nil {
		g.err = fmt.Errorf(format, args...)
	}
}

// revise writes a change anew with something else in it.
func (g *guide) revise(id int64, from, to string) {
	text := strings.ReplaceAll(g.detail(id).Source, from, to)
	if g.err == nil {
		g.err = os.WriteFile(filepath.Join(g.office.dir, "revised.yaml"), []byte(text), 0o644)
	}
}

// capture keeps what a command prints in a file.
func (g *guide) capture(file string, args ...string) {
	if g.err != nil {
		return
	}
	fmt.Printf("\n$ wladder %s > %s\n", strings.Join(args, " "), file)
	out, err := g.command(args...).Output()
	if err == nil {
		err = os.WriteFile(filepath.Join(g.office.dir, file), out, 0o644)
	}
	g.err = err
}

// edit is what somebody does in an editor.
func (g *guide) edit(file, from, to string) {
	if g.err != nil {
		return
	}
	path := filepath.Join(g.office.dir, file)
	text, err := os.ReadFile(path)
	if err == nil && !bytes.Contains(text, []byte(from)) {
		err = fmt.Errorf("%s does not say %q", file, from)
	}
	if err == nil {
		err = os.WriteFile(path, bytes.Replace(text, []byte(from), []byte(to), 1), 0o644)
	}
	g.err = err
}

// load adds a host again, as an admin.
func (g *guide) load(name string) {
	if g.err != nil {
		return
	}
	for _, h := range g.office.Load {
		if h.Name != name {
			continue
		}
		ada, err := g.office.As(g.ctx, "ada")
		if err == nil {
			_, err = ada.LoadHosts(g.ctx, []view.Host{h})
		}
		if err == nil {
			_, err = ada.Survey(g.ctx, fmt.Sprintf("name == %q", name))
		}
		g.err = err
	}
}

// approved offers a change and has both reviewers approve it, with its warnings acknowledged.
func (g *guide) approved(id int64) {
	g.wladder(0, "offer", fmt.Sprint(id))
	digest := g.digestOf(id)
	for _, name := range []string{"oda", "kai"} {
		g.as(name)
		for len(g.detail(id).Review.Open) > 0 && g.err == nil {
			g.wladder(0, "acknowledge", fmt.Sprint(id), g.warning(id))
		}
		g.wladder(0, "approve", "-digest", digest, fmt.Sprint(id))
	}
	g.as("ines")
}

// until waits for a change to be as wanted.
func (g *guide) until(id int64, f func(view.ChangeDetail) bool) {
	for end := time.Now().Add(time.Minute); g.err == nil && !f(g.detail(id)); time.Sleep(200 * time.Millisecond) {
		if time.Now().After(end) {
			g.fail("change %d is %s after a minute", id, g.detail(id).State)
		}
	}
}

// holds checks what a host's file says.
func (g *guide) holds(host, text string) {
	if g.err != nil {
		return
	}
	data, err := g.office.Hosts[host].Files.Read(webConf)
	if g.err = err; err == nil && !bytes.Contains(data, []byte(text)) {
		g.fail("%s on %s does not say %s:\n%s", webConf, host, text, data)
	}
}
