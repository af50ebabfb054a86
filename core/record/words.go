package record

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// Known tells whether a kind of entry has words.
func Known(kind string) bool { return words[kind] != nil }

// Words say what happened, without who did it: "approved change 5 under 7c4f4be136c7". Behind
// "host/…" and the like of the subject stands what it happened to.
func (e Entry) Words() string {
	b := body{of: e.Subject[strings.IndexByte(e.Subject, '/')+1:]}
	json.Unmarshal(e.Body, &b.held) // what does not exist has no words
	said := words[e.Kind]
	if said == nil {
		return e.Kind + " of " + e.Subject
	}
	text := said(b)
	if because := b.text("because"); because != "" {
		text += ": " + because
	}
	return text
}

// Sentence says who did what; display is the name of who did it as people know it, where there is
// one. What became of a host in a climb is told of the host.
func (e Entry) Sentence(display string) string {
	who := e.Actor
	if display != "" {
		who = display
	}
	if who == "wladderd" {
		if ofHost[e.Kind] {
			return e.Words()
		}
		who = "The server"
	}
	return who + " " + e.Words()
}

// ofHost are the kinds whose words begin with the host.
var ofHost = map[string]bool{"host.done": true, "host.passed-over": true, "host.queued": true, "host.restored": true, "host.restoring": true, "host.soaking": true, "host.stranded": true, "host.unknown": true, "host.working": true}

// body is what an entry holds.
type body struct {
	of   string // what it happened to: the subject, without its kind
	held map[string]any
}

func (b body) text(key string) string {
	switch v := b.held[key].(type) {
	case string:
		return strings.TrimSpace(v)
	case []any:
		var all []string
		for _, one := range v {
			all = append(all, fmt.Sprint(one))
		}
		return strings.Join(all, ", ")
	}
	return ""
}

func (b body) number(key string) int {
	n, _ := b.held[key].(float64)
	return int(n)
}

func (b body) digest() string {
	d := b.text("digest")
	return d[:min(len(d), 12)]
}

// change is the change that the entry is about.
func (b body) change() string {
	if n := b.number("change"); n != 0 {
		return fmt.Sprintf("change %d", n)
	}
	return "change " + b.of
}

func (b body) hosts(key string) string { return counted(b.number(key), "host") }

func (b body) why(text string) string {
	if why := b.text("why"); why != "" {
		return text + ": " + why
	}
	return text
}

// until is a moment of the body, to the minute.
func (b body) until(key string) string {
	at, err := time.Parse(time.RFC3339Nano, b.text(key))
	if err != nil {
		return ""
	}
	return at.UTC().Format("2006-01-02 15:04 UTC")
}

func (b body) roles() string {
	if roles := b.text("roles"); roles != "" {
		return "the roles " + roles
	}
	return "no roles"
}

func counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// under names the digest that something was said of.
func under(verb string) func(body) string {
	return func(b body) string { return fmt.Sprintf("%s %s under %s", verb, b.change(), b.digest()) }
}

// about puts what it happened to into a sentence.
func about(format string) func(body) string {
	return func(b body) string { return fmt.Sprintf(format, b.of) }
}

// run is what became of a host in a climb.
func run(format string) func(body) string {
	return func(b body) string {
		text := fmt.Sprintf(format, b.of, b.change())
		if b.held["undone"] == true {
			text += ", by its own guard"
		}
		return b.why(text)
	}
}

// versioned is what became of a version of a definition.
func versioned(format string) func(body) string {
	return func(b body) string { return fmt.Sprintf(format, b.number("version"), b.of) }
}

// climb is what became of a climb.
func climb(format string) func(body) string {
	return func(b body) string { return b.why(fmt.Sprintf(format, b.change())) }
}

// words has the words of each kind of entry; of another one, its kind and subject are said.
var words = map[string]func(body) string{
	"account.added":       func(b body) string { return fmt.Sprintf("made the account %s with %s", b.of, b.roles()) },
	"account.disabled":    about("keeps %s out"),
	"account.enabled":     about("lets %s in again"),
	"account.first-admin": about("made %s the first admin"),
	"account.password": func(b body) string {
		if b.held["directory"] == true {
			return fmt.Sprintf("has %s sign in with the directory", b.of)
		}
		return fmt.Sprintf("gave %s a new password, to be changed", b.of)
	},
	"account.password-changed": func(b body) string {
		if b.text("directory") != "" {
			return fmt.Sprintf("tied the account %s to its person", b.of)
		}
		return "changed the own password"
	},
	"account.roles":              func(b body) string { return fmt.Sprintf("gave %s %s", b.of, b.roles()) },
	"account.vouched":            about("vouched for the account %s, from before the record told of it"),
	"change.approval-taken-back": under("withdrew the approval of"),
	"change.approved":            under("approved"),
	"change.commented": func(b body) string {
		if b.number("to") != 0 {
			return fmt.Sprintf("answered comment %d on %s", b.number("to"), b.change())
		}
		return fmt.Sprintf("commented on %s", b.change())
	},
	"change.countered": func(b body) string { return fmt.Sprintf("took %s back by change %d", b.change(), b.number("by")) },
	"change.declined":  under("declined"),
	"change.drafted": func(b body) string {
		if n := b.number("revision"); n > 1 {
			return fmt.Sprintf("wrote revision %d of %s, “%s”", n, b.change(), b.text("title"))
		}
		return fmt.Sprintf("drafted %s, “%s”", b.change(), b.text("title"))
	},
	"change.emergency": under("approved alone, in an emergency,"),
	"change.offered":   under("offered"),
	"change.prolonged": func(b body) string {
		return fmt.Sprintf("had %s of %s go back later, after %s, by change %d", b.hosts("hosts"), b.change(), b.text("for"), b.number("by"))
	},
	"change.return-asked": func(b body) string { return fmt.Sprintf("had the hosts of %s go back before their time", b.change()) },
	"change.reviewed":     under("reviewed afterwards"),
	"change.shared":       func(b body) string { return fmt.Sprintf("lets %s revise %s", b.text("with"), b.change()) },
	"change.taken-over":   func(b body) string { return fmt.Sprintf("took %s over from %s", b.change(), b.text("from")) },
	"change.withdrawn":    func(b body) string { return "withdrew " + b.change() },
	"climb.completed":     climb("ended the climb of %s"),
	"climb.paused":        climb("paused the climb of %s"),
	"climb.roll-back-asked": func(b body) string {
		return fmt.Sprintf("had all hosts of %s put back, the newest stage first", b.change())
	},
	"climb.running": climb("had %s go on"),
	"climb.started": func(b body) string {
		return b.why(fmt.Sprintf("let %s climb: %s under %s", b.change(), b.hosts("hosts"), b.digest()))
	},
	"climb.stopped":   climb("ended the climb of %s before its end"),
	"climb.stopping":  climb("stopped the climb of %s; hosts under way are put back"),
	"climb.waiting":   climb("holds %s at a gate"),
	"comment.settled": func(b body) string { return fmt.Sprintf("settled comment %d on %s", b.number("comment"), b.change()) },
	"form.kept":       func(b body) string { return fmt.Sprintf("kept version %d of the form %s", b.number("version"), b.of) },
	"gate.answered": func(b body) string {
		seen := "not well"
		if b.held["well"] == true {
			seen = "well"
		}
		text := fmt.Sprintf("looked at the gate before stage %d of %s: “%s” is %s", b.number("stage")+1, b.change(), b.text("look"), seen)
		if in := b.text("in"); in != "" {
			text += " in " + in
		}
		if note := b.text("note"); note != "" {
			text += ", “" + note + "”"
		}
		return text
	},
	"halt.given": func(b body) string {
		if where := b.text("where"); where != "" {
			return fmt.Sprintf("gave halt %d, where %s", b.number("halt"), where)
		}
		return fmt.Sprintf("gave halt %d, everywhere", b.number("halt"))
	},
	"halt.lifted": func(b body) string { return fmt.Sprintf("lifted halt %d", b.number("halt")) },
	"host.done":   run("%s is done with %s"),
	"host.drift-accepted": func(b body) string {
		return fmt.Sprintf("has %s on %s stay as it stands: %s", b.text("path"), b.of, b.text("because"))
	},
	"host.drift-ended": func(b body) string { return fmt.Sprintf("found %s on %s as it was left again", b.text("path"), b.of) },
	"host.drifted": func(b body) string {
		return fmt.Sprintf("found %s on %s not as it was left: %s", b.text("path"), b.of, b.text("kind"))
	},
	"host.fence-raised": func(b body) string {
		return fmt.Sprintf("raised the fence of %s from %d to %d", b.of, b.number("from"), b.number("to"))
	},
	"host.given-up": func(b body) string { return fmt.Sprintf("gave %s up in %s", b.of, b.change()) },
	"host.left-out": func(b body) string { return fmt.Sprintf("took %s out of %s", b.of, b.change()) },
	"host.overwritten": func(b body) string {
		return fmt.Sprintf("had the old files put over an edit on %s, in %s", b.of, b.change())
	},
	"host.passed-over":  run("%s was passed over in %s"),
	"host.queued":       run("%s waits for its turn again, in %s"),
	"host.renamed":      func(b body) string { return fmt.Sprintf("renamed %s to %s", b.of, b.text("to")) },
	"host.restored":     run("%s has its old files again, in %s"),
	"host.restoring":    run("%s gets its old files back, in %s"),
	"host.retired":      about("took %s out of service for good"),
	"host.set-aside":    func(b body) string { return fmt.Sprintf("set %s aside until %s", b.of, b.until("until")) },
	"host.soaking":      run("%s soaks, in %s"),
	"host.stranded":     run("%s is stranded in %s and needs a person"),
	"host.taken-back":   about("took %s back into service"),
	"host.try-again":    func(b body) string { return fmt.Sprintf("had %s tried again in %s", b.of, b.change()) },
	"host.unknown":      run("%s was lost sight of in %s"),
	"host.way-in":       about("noted the way in to %s"),
	"host.way-in-ended": about("noted that the way in to %s holds no more"),
	"host.working":      run("%s is worked on, for %s"),
	"hosts.asked":       func(b body) string { return fmt.Sprintf("asked %s: %s", b.hosts("hosts"), b.text("asks")) },
	"hosts.changed": func(b body) string {
		return fmt.Sprintf("changed the way in to %s: %s", b.hosts("count"), b.text("hosts"))
	},
	"hosts.loaded":    func(b body) string { return fmt.Sprintf("loaded %s: %s", b.hosts("count"), b.text("hosts")) },
	KeyChanged:        func(b body) string { return "changed the server's key" },
	"policy.changed":  func(b body) string { return fmt.Sprintf("put version %d of the policy in force", b.number("version")) },
	"record.seam":     func(b body) string { return "went on from an older copy of the database" },
	"rehearsal.begun": func(b body) string { return fmt.Sprintf("rehearsed %s on %s", b.change(), b.hosts("hosts")) },
	"rehearsal.ended": func(b body) string {
		left := ""
		if b.number("without_part") > 0 {
			left += "; " + b.hosts("without_part") + " with a veto or nothing to change"
		}
		if b.number("not_read") > 0 {
			left += "; " + b.hosts("not_read") + " not read"
		}
		if d := b.digest(); d != "" {
			return fmt.Sprintf("has a plan of %s for %s, with the digest %s", b.change(), b.hosts("hosts"), d) + left
		}
		return fmt.Sprintf("has rehearsed %s, without a plan", b.change()) + left
	},
	"request.agreed": func(b body) string {
		return fmt.Sprintf("agreed to request %s of %s: %s", b.of, b.text("asked_by"), b.text("what"))
	},
	"request.made": func(b body) string { return fmt.Sprintf("asked a second admin, request %s: %s", b.of, b.text("what")) },
	"request.refused": func(b body) string {
		return fmt.Sprintf("refused request %s of %s: %s", b.of, b.text("asked_by"), b.text("what"))
	},
	"review.overdue": func(b body) string {
		return fmt.Sprintf("waits for somebody to review %s, which %s approved alone", b.change(), b.text("approved_by"))
	},
	"secret.bound":     about("said where the secret %s may go"),
	"secret.kept":      func(b body) string { return fmt.Sprintf("kept version %d of the secret %s", b.number("version"), b.of) },
	"service.approved": versioned("approved version %d of the definition %s"),
	"service.loaded":   versioned("loaded version %d of the definition %s"),
	"service.tried":    func(b body) string { return fmt.Sprintf("tried the definition %s on %s", b.of, b.text("host")) },
	"service.try-approved": func(b body) string {
		return fmt.Sprintf("let version %d of the definition %s be tried on %s", b.number("version"), b.of, b.text("host"))
	},
	"service.vouched":   about("vouched for the definition %s, from before the record told of it"),
	"service.withdrawn": versioned("withdrew version %d of the definition %s"),
	"sign-in.ended":     func(b body) string { return "ended a sign-in of " + b.text("of") },
	"sign-in.failed": func(b body) string {
		return b.why(fmt.Sprintf("failed to sign in as %s, from %s", b.of, b.text("from")))
	},
	"sign-in.vouched": func(b body) string { return "vouched for a sign-in, from before the record told of it" },
	"signed-in": func(b body) string {
		if b.text("directory") != "" {
			return "signed in with the directory"
		}
		return "signed in"
	},
	"token.made": func(b body) string {
		scopes := b.text("scopes")
		if scopes == "" {
			scopes = "reading alone"
		}
		return fmt.Sprintf("made the token “%s” for %s, for %s", b.text("label"), scopes, counted(b.number("days"), "day"))
	},
	"veto.overridden": func(b body) string {
		return fmt.Sprintf("overrode the veto “%s” on %s in %s", b.text("text"), b.of, b.overridden())
	},
	"warning.acknowledged": func(b body) string {
		return fmt.Sprintf("acknowledged the warning “%s” of %s", b.text("text"), b.change())
	},
}

// overridden names the plan, since the entry is about a host.
func (b body) overridden() string { return "the plan " + b.digest() }
