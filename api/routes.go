package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/policy"
	"wladder/core/record"
	"wladder/core/view"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
)

// route is one call. Shapes are given by example values; nil is none, a string
// is YAML text.
type route struct {
	method, path, summary string
	role                  string // that the caller needs, or one of several, with or between; empty: anybody
	session               bool   // needs a signed-in person, not a program's token
	takes, gives          any
	status                int
	handle                func(*Server, *gin.Context)
}

// looking are the roles that may have hosts read: it costs a connection to each.
const looking = "author or reviewer or operator"

var routes = []route{
	{"POST", "/session", "Sign in", "", false, view.SignIn{}, view.SignedIn{}, 200, (*Server).signIn},
	{"GET", "/session", "Who is signed in", "viewer", false, nil, view.Account{}, 200, func(_ *Server, c *gin.Context) { c.JSON(200, who(c)) }},
	{"GET", "/session/ways", "How one may sign in; with why, what a reason means for which a sign-in failed", "", false, nil, view.WaysIn{}, 200, (*Server).waysIn},
	{"GET", "/session/directory", "Send the browser to the team's directory, to sign in there and go on with the page to", "", false, nil, nil, 303, (*Server).toDirectory},
	{"GET", "/session/directory/back", "Sign in whom the directory sends back", "", false, nil, nil, 303, (*Server).fromDirectory},
	{"POST", "/session/directory/elsewhere", "Begin a program's sign-in with the directory: its person opens an address in any browser and types the code", "", false, nil, view.Elsewhere{}, 200, (*Server).signInElsewhere},
	{"POST", "/session/directory/elsewhere/token", "Wait a moment until the code was typed; then the program is signed in", "", false, view.ElsewhereAsked{}, view.SignedInElsewhere{}, 200, (*Server).signedInElsewhere},
	{"DELETE", "/session", "Sign out", "viewer", false, nil, nil, 204, (*Server).signOut},

	{"PUT", "/session/password", "Change one's own password; all other sign-ins end", "viewer", true, view.PasswordChange{}, nil, 204, (*Server).changePassword},
	{"GET", "/session/sign-ins", "One's own sign-ins and tokens that have not ended", "viewer", false, nil, []view.SignInRow{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.SignIns(c, who(c).Name, token(c))) }},
	{"DELETE", "/session/sign-ins/{id}", "End one of one's own sign-ins or tokens", "viewer", false, nil, nil, 204, (*Server).endOwnSignIn},
	{"POST", "/tokens", "Make a token for a program; it is shown once", "viewer", true, view.NewToken{}, view.Token{}, 201, (*Server).makeToken},

	{"GET", "/accounts", "The accounts, by name", "viewer", false, nil, []view.Person{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.People(c)) }},
	{"POST", "/accounts", "Make an account; a second admin has to agree where it is to be an admin", "admin", true, view.NewPerson{}, view.Requested{}, 200, (*Server).addPerson},
	{"PATCH", "/accounts/{name}", "Change an account's roles, reset its password, or keep it out; what has to do with an admin wants a second one", "admin", true, view.PersonChange{}, view.Requested{}, 200, (*Server).changePerson},
	{"GET", "/accounts/{name}/sign-ins", "An account's sign-ins and tokens that have not ended", "admin", false, nil, []view.SignInRow{}, 200, func(s *Server, c *gin.Context) {
		give(s, c)(s.Store.SignIns(c, c.Param("name"), token(c)))
	}},
	{"DELETE", "/accounts/{name}/sign-ins", "End all sign-ins and tokens of an account", "admin", true, nil, nil, 204, func(s *Server, c *gin.Context) {
		s.nothing(c, 204, s.Store.EndSignIns(c, who(c).Name, c.Param("name"), 0))
	}},

	{"GET", "/requests", "What one admin has asked for and another has to agree to", "admin", false, nil, []view.Request{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Requests(c)) }},
	{"POST", "/requests/{id}/decision", "Agree to a request, or refuse it", "admin", true, view.Decision{}, nil, 204, (*Server).decide},

	{"GET", "/hosts", "The hosts, by the page; by a part of their names, and by labels such as role=bulletin", "viewer", false, nil, []view.Host{}, 200, (*Server).hosts},
	{"GET", "/labels", "The labels of hosts, with their values and on how many hosts each is", "viewer", false, nil, []view.Label{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Labels(c)) }},
	{"GET", "/hosts/{name}", "One host", "viewer", false, nil, view.Host{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Host(c, c.Param("name"))) }},
	{"POST", "/hosts", "Add hosts, or bring labels up to date; where the way in to a known one changes, a second admin has to agree", "admin", false, []view.Host{}, view.HostsLoaded{}, 200, (*Server).loadHosts},
	{"PATCH", "/hosts/{name}", "Set a host aside for a while, or take it back", "operator", false, view.HostChange{}, nil, 204, (*Server).setAside},
	{"POST", "/hosts/{name}/name", "Rename a host", "admin", true, view.Renaming{}, nil, 204, func(s *Server, c *gin.Context) {
		var in view.Renaming
		if s.read(c, &in) {
			s.nothing(c, http.StatusNoContent, s.Store.Rename(c, who(c).Name, c.Param("name"), in.To))
		}
	}},
	{"POST", "/hosts/{name}/retirement", "Take a host out of service for good; its name is free then", "admin", true, view.Judgement{}, nil, 204, func(s *Server, c *gin.Context) {
		var in view.Judgement
		if s.read(c, &in) {
			s.nothing(c, http.StatusNoContent, s.Store.Retire(c, who(c).Name, c.Param("name"), in.Because))
		}
	}},
	{"GET", "/hosts/{name}/key", "The key that a host shows now, beside the pinned one", "admin", false, nil, view.HostKey{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Engine.HostKey(c, c.Param("name"))) }},
	{"POST", "/hosts/{name}/key", "Pin the key that a host shows, whose fingerprint a person has compared; where another is pinned, a second admin has to agree", "admin", true, view.KeyPinned{}, view.HostsLoaded{}, 200, (*Server).pinKey},
	{"POST", "/hosts/newer", "Ask hosts which fence they have seen, and name those that are newer than this database, after it came back from an older copy", "admin", true, view.CompareOrder{}, view.HostsBeside{}, 200, func(s *Server, c *gin.Context) {
		var in view.CompareOrder
		if s.read(c, &in) {
			out, err := s.Engine.Beside(c, who(c).Name, in.Where, in.Raise)
			give(s, c)(out, err)
		}
	}},
	{"POST", "/hosts/{name}/fence", "Raise a host's fence to what the host answers, after a database came back from an older copy", "admin", true, nil, view.Raised{}, 200, (*Server).raiseFence},
	{"POST", "/survey", "Ask hosts what they are", "operator", false, view.SurveyOrder{}, view.Surveyed{}, 200, (*Server).survey},

	{"POST", "/ask", "Put probes to hosts without a change", "operator", false, view.AskOrder{}, view.AskedHosts{}, 200, (*Server).ask},

	{"GET", "/drift", "What is not as it was left on hosts, as of the last look at each; of one host or of all", "viewer", false, nil, view.Drift{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Drift(c, c.Query("host"))) }},
	{"POST", "/drift", "Look at hosts now", "operator", false, view.Where{}, view.Drift{}, 200, (*Server).lookForDrift},
	{"POST", "/drift/difference", "What stands at a path of a host beside what was left there, and the edits that would put it back; it reads the host", looking, false, view.PathOf{}, view.DriftedPath{}, 200, func(s *Server, c *gin.Context) {
		var in view.PathOf
		if s.read(c, &in) {
			give(s, c)(s.Engine.Drifted(c, in.Host, in.Path))
		}
	}},
	{"POST", "/drift/acceptance", "Have a path of a host stay as it stands, though it is not as it was left", "operator", true, view.PathOf{}, nil, 204, func(s *Server, c *gin.Context) {
		var in view.PathOf
		if s.read(c, &in) {
			s.nothing(c, http.StatusNoContent, s.Engine.Accept(c, who(c).Name, in.Host, in.Path, in.Because))
		}
	}},
	{"POST", "/comparisons", "What hosts say of one setting, by its values, or in what two hosts differ, as they are now", looking, false, view.Comparing{}, view.Compared{}, 200, (*Server).compare},
	{"GET", "/hosts/{name}/files", "The files of a service on a host as they are now, with what becomes of each value", looking, false, nil, view.HostFiles{}, 200, func(s *Server, c *gin.Context) {
		files, err := s.Engine.HostFiles(c, c.Param("name"), c.Query("service"), c.Query("file"))
		give(s, c)(files, err)
	}},
	{"GET", "/hosts/{name}/services", "The services that a host carries, with what a climb last did with each", "viewer", false, nil, []view.HostService{}, 200, func(s *Server, c *gin.Context) {
		give(s, c)(s.Store.HostServices(c, c.Param("name")))
	}},
	{"GET", "/hosts/{name}/history", "What became of one setting of a host, the oldest first", looking, false, nil, []view.Told{}, 200, func(s *Server, c *gin.Context) {
		told, err := s.Engine.History(c, c.Param("name"), c.Query("service"), c.Query("file"), c.Query("address"))
		give(s, c)(told, err)
	}},

	{"GET", "/secrets", "The secrets, by name", "viewer", false, nil, []view.Secret{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.SecretList(c)) }},
	{"PUT", "/secrets/{name}", "Keep a secret's value as its next version", "admin", false, view.NewSecret{}, view.Secret{}, 200, (*Server).putSecret},
	{"PUT", "/secrets/{name}/binding", "Say where a secret may go", "admin", true, view.Binding{}, nil, 204, (*Server).bindSecret},

	{"GET", "/services", "The newest version of each definition, by the page; by a part of their names", "viewer", false, nil, []view.Service{}, 200, (*Server).services},
	{"GET", "/services/{name}", "The newest version of one definition", "viewer", false, nil, view.Service{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Service(c, c.Param("name"))) }},
	{"GET", "/services/{name}/parts", "A version of a definition in its parts; the newest, where none is given", "viewer", false, nil, view.ServiceParts{}, 200, func(s *Server, c *gin.Context) {
		if n, ok := s.numbers(c, rows, "version"); ok {
			give(s, c)(s.Store.ServiceParts(c, c.Param("name"), int(n[1])))
		}
	}},
	{"GET", "/services/{name}/in-force", "The version of a definition that serves hosts", "viewer", false, nil, view.Service{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.ApprovedService(c, c.Param("name"))) }},
	{"POST", "/services", "Load a definition", "admin", false, "", view.Service{}, 200, (*Server).loadService},
	{"POST", "/tries", "What a definition would find on a host, before it is approved: what is at its paths, and what it would run", "admin", false, view.Trying{}, view.Tried{}, 200, (*Server).try},
	{"POST", "/services/{name}/try-approval", "Let a version be tried on one host for a day: its files are read there, its checker and probes are run", "admin", true, view.TryApproval{}, nil, 204, func(s *Server, c *gin.Context) {
		var in view.TryApproval
		if s.read(c, &in) {
			s.nothing(c, http.StatusNoContent, s.Store.ApproveTry(c, who(c).Name, c.Param("name"), in.Digest, in.Host))
		}
	}},
	{"POST", "/services/{name}/withdrawal", "Have a version serve no host any more; climbs that use it pause", "admin", true, view.Judgement{}, nil, 204, (*Server).withdrawService},
	{"POST", "/services/{name}/approval", "Let a version serve hosts", "admin", true, view.Judgement{}, nil, 204, (*Server).approveService},

	{"GET", "/forms", "Changes that are kept with blanks in them", "viewer", false, nil, []view.Form{}, 200, (*Server).forms},
	{"GET", "/forms/{name}", "One form, with its blanks", "viewer", false, nil, view.Form{}, 200, (*Server).form},
	{"POST", "/forms", "Keep a form", "author", false, "", view.Form{}, 200, (*Server).keepForm},
	{"POST", "/forms/{name}/draft", "Draft a change from a form, its blanks filled in", "author", false, view.Filling{}, view.Created{}, 201, (*Server).draftForm},
	{"POST", "/hosts/{name}/edited", "The edits that turn a file of a host, as it is now, into a copy that was edited by hand", "author", false, view.EditedCopy{}, view.DerivedEdits{}, 200, func(s *Server, c *gin.Context) {
		var in view.EditedCopy
		if s.read(c, &in) {
			out, err := s.Engine.Derive(c, c.Param("name"), in)
			give(s, c)(out, err)
		}
	}},

	{"GET", "/today", "What climbs, what waits for the caller, and what is not well", "viewer", false, nil, view.Today{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Today(c, who(c), time.Now())) }},
	{"GET", "/calendar", "The windows and freezes of some days, the earliest first", "viewer", false, nil, []policy.Coming{}, 200, func(s *Server, c *gin.Context) {
		from, ok := s.moment(c, "from")
		to, ok2 := s.moment(c, "to")
		if ok && ok2 {
			all, err := s.Store.Calendar(c, from, to)
			give(s, c)(all, err)
		}
	}},
	{"GET", "/policy", "The policy that holds", "viewer", false, nil, view.PolicyVersion{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Policy(c)) }},
	{"PUT", "/policy", "Ask for another policy, to which a second admin has to agree", "admin", true, "", view.Requested{}, 200, (*Server).loadPolicy},

	{"GET", "/changes", "The newest changes", "viewer", false, nil, []view.Change{}, 200, (*Server).changes},
	{"POST", "/drafts/check", "What is wrong with a change as it is written, and which hosts it fits; nothing is kept", "author", false, "", view.DraftChecked{}, 200, (*Server).checkDraft},
	{"GET", "/drafts/keys", "The keys that a change may have, by the keys that lead to the mapping that holds them", "viewer", false, nil, map[string][]string{}, 200, func(_ *Server, c *gin.Context) { c.JSON(http.StatusOK, change.Keys()) }},
	{"POST", "/drafts/preview", "What a change that is being written comes to on one host, by the copy of its files that was last read", "author", false, view.Previewing{}, view.Preview{}, 200, (*Server).preview},
	{"POST", "/changes", "Draft a change", "author", false, "", view.Created{}, 201, (*Server).draft},
	{"GET", "/changes/{id}", "A change's summary; its size does not grow with its hosts", "viewer", false, nil, view.ChangeDetail{}, 200, (*Server).change},
	{"POST", "/changes/{id}/revisions", "Draft a new revision", "author", false, "", view.Created{}, 201, (*Server).draft},
	{"POST", "/changes/{id}/rehearsal", "Begin a rehearsal: of all hosts, or with hosts=missed of those alone that the last one did not get into its plan", "author", false, nil, nil, 202, (*Server).rehearse},
	{"GET", "/changes/{id}/rehearsal/hosts", "What the newest rehearsal found on each host, by the page", "viewer", false, nil, []view.RehearsedHost{}, 200, (*Server).rehearsedHosts},
	{"POST", "/changes/{id}/offer", "Offer the plan for review", "author", false, nil, nil, 204, (*Server).offer},
	{"POST", "/changes/{id}/approval", "Approve the plan under its digest", "reviewer", true, view.Judgement{}, nil, 204, (*Server).approve},
	{"GET", "/changes/{id}/rehearsal/picked", "Some hosts of the plan, picked at random", "viewer", false, nil, []string{}, 200, func(s *Server, c *gin.Context) {
		if n, ok := s.numbers(c, rows); ok {
			if id, ok := s.known(c); ok {
				give(s, c)(s.Store.PickedHosts(c, id, c.Query("group"), int(n[0])))
			}
		}
	}},
	{"GET", "/changes/{id}/rehearsal/hosts/{host}", "The files of one host of the plan, before and after, with all of their lines", "viewer", false, nil, view.WholeFiles{}, 200, func(s *Server, c *gin.Context) {
		if id, ok := s.id(c); ok {
			p, leaf, err := s.Store.LeafOf(c, id, c.Param("host"))
			if err != nil {
				s.fail(c, err)
				return
			}
			give(s, c)(s.Engine.Whole(c, p.Head, leaf))
		}
	}},
	{"GET", "/changes/{id}/differences", "What differs between two plans of the change, leaf by leaf", "viewer", false, nil, view.PlansCompared{}, 200, func(s *Server, c *gin.Context) {
		if id, ok := s.id(c); ok {
			give(s, c)(s.Store.PlansCompared(c, id, c.Query("from"), c.Query("to")))
		}
	}},
	{"POST", "/changes/{id}/emergency", "Approve the plan alone, one's own too, as policy lets some people do in an emergency; somebody else reviews it afterwards", "operator", true, view.Judgement{}, nil, 204, (*Server).emergency},
	{"POST", "/changes/{id}/review", "Review afterwards what was approved in an emergency", "reviewer", true, view.Judgement{}, nil, 204, (*Server).reviewAfter},
	{"POST", "/changes/{id}/approval-withdrawal", "Take one's own approval back; where too few are left, the climb pauses", "viewer", true, view.Judgement{}, nil, 204, (*Server).takeApprovalBack},
	{"POST", "/changes/{id}/acknowledgements", "Acknowledge a warning of the plan", "reviewer", true, view.Acknowledgement{}, nil, 204, (*Server).acknowledge},
	{"PUT", "/changes/{id}/looked", "Mark a diff group of the plan as read by the caller, or as not read", "viewer", false, view.Looking{}, nil, 204, (*Server).look},
	{"POST", "/changes/{id}/overrides", "Override a veto on one host for this plan, as policy lets some people do", "viewer", true, view.Overriding{}, nil, 204, (*Server).override},
	{"POST", "/changes/{id}/comments", "Comment on a line of a diff group, on the group or the change as a whole, or answer a comment", "viewer", true, view.NewComment{}, view.Created{}, 201, (*Server).comment},
	{"POST", "/changes/{id}/comments/{comment}/settlement", "Settle a thread of comments", "viewer", true, nil, nil, 204, (*Server).settle},
	{"POST", "/changes/{id}/decline", "Decline the plan", "reviewer", true, view.Judgement{}, nil, 204, (*Server).decline},
	{"POST", "/changes/{id}/people", "Let somebody revise the change beside its author", "author", false, view.Sharing{}, nil, 204, (*Server).share},
	{"POST", "/changes/{id}/author", "Take a change over from its author, with the reason", "admin", true, view.Judgement{}, nil, 204, (*Server).takeOver},
	{"POST", "/changes/{id}/withdrawal", "Withdraw the change; an admin who is not its author says why", "author or admin", false, view.Judgement{}, nil, 204, (*Server).withdraw},
	{"POST", "/changes/{id}/counter", "Draft the opposite of a change for the hosts that are done with it", "author", false, view.Judgement{}, view.Created{}, 201, (*Server).counter},
	{"POST", "/changes/{id}/follow-up", "Draft a change with the same edits for hosts that are not done with this one", "author", false, view.Judgement{}, view.Created{}, 201, (*Server).followUp},
	{"POST", "/changes/{id}/climb", "Let the approved plan climb; with hosts=behind those that it passed over before", "operator", false, nil, nil, 202, (*Server).climb},
	{"POST", "/changes/{id}/orders", "Pause, resume, stop or roll back the climb, and say why", "operator", false, view.Order{}, nil, 204, (*Server).order},
	{"POST", "/changes/{id}/checks", "Note what was seen of a check of the gate that the climb waits at", "operator", false, view.Checked{}, nil, 204, func(s *Server, c *gin.Context) {
		var in view.Checked
		if id, ok := s.id(c); ok && s.read(c, &in) {
			s.nothing(c, http.StatusNoContent, s.Store.Answer(c, who(c).Name, id, in))
		}
	}},
	{"POST", "/changes/{id}/return", "Have the hosts of a temporary change go back before their time", "operator", false, view.Judgement{}, nil, 204, func(s *Server, c *gin.Context) {
		s.reasoned(c, func(id int64, in view.Judgement) error { return s.Store.ReturnNow(c, who(c).Name, id, in.Because) })
	}},
	{"POST", "/changes/{id}/left-out", "Take a host out of an approved plan", "operator", false, view.Exclusion{}, nil, 204, (*Server).leaveOut},
	{"GET", "/changes/{id}/course", "How the hosts of the newest climb stood over its time", "viewer", false, nil, []view.CoursePoint{}, 200, func(s *Server, c *gin.Context) {
		if id, ok := s.known(c); ok {
			give(s, c)(s.Store.Course(c, id))
		}
	}},
	{"GET", "/changes/{id}/latencies", "How long the answers to each probe took over the hosts of the newest climb, before they were changed and after", "viewer", false, nil, []view.Latency{}, 200, func(s *Server, c *gin.Context) {
		if id, ok := s.id(c); ok {
			give(s, c)(s.Store.Latencies(c, id))
		}
	}},
	{"GET", "/changes/{id}/runs", "The host runs of the newest climb, by the page, or what changed of them", "viewer", false, nil, view.Runs{}, 200, (*Server).runs},
	{"GET", "/changes/{id}/runs/{host}", "One host's run with its steps", "viewer", false, nil, view.HostRun{}, 200, (*Server).hostRun},
	{"POST", "/changes/{id}/runs/{host}/orders", "Try one host of the climb again, or give it up, and say why", "operator", false, view.HostOrder{}, nil, 204, (*Server).orderHost},
	{"GET", "/changes/{id}/events", "What happens to the change, as Server-Sent Events", "viewer", false, nil, nil, 200, (*Server).events},

	{"GET", "/receivers", "Who is told of what asks for people, and what waits for each", "viewer", false, nil, []view.Receiver{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Receivers(c)) }},
	{"GET", "/halts", "The halts that hold", "viewer", false, nil, []view.Halt{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Halts(c)) }},
	{"POST", "/halts", "Have no climb change hosts that an expression fits, or any host at all, until it is lifted", "operator", false, view.Halting{}, view.Created{}, 201, func(s *Server, c *gin.Context) {
		var in view.Halting
		if !s.read(c, &in) {
			return
		}
		number, err := s.Store.Halt(c, who(c).Name, in.Where, in.Because)
		if err != nil {
			s.fail(c, err)
			return
		}
		c.JSON(http.StatusCreated, view.Created{ID: number})
	}},
	{"POST", "/halts/{id}/lifting", "Lift a halt", "operator", false, view.Lifting{}, nil, 204, func(s *Server, c *gin.Context) {
		var in view.Lifting
		if id, ok := s.id(c); ok && s.read(c, &in) {
			s.nothing(c, http.StatusNoContent, s.Store.LiftHalt(c, who(c).Name, id, in.Because))
		}
	}},

	{"POST", "/key", "Change the server's key: what it has sealed is sealed anew", "admin", true, nil, view.KeyChanged{}, 200, func(s *Server, c *gin.Context) {
		changed, err := s.Store.ChangeKey(c, who(c).Name)
		give(s, c)(changed, err)
	}},

	{"GET", "/record", "The record", "viewer", false, nil, []record.Entry{}, 200, (*Server).record},
	{"GET", "/record/told", "The record in sentences, the newest first", "viewer", false, nil, []view.Sentence{}, 200, (*Server).told},
	{"GET", "/record/checkpoint", "Where the record ends, signed, after all of it was read", "viewer", false, nil, record.Checkpoint{}, 200, func(s *Server, c *gin.Context) { give(s, c)(s.Store.Checkpoint(c)) }},
	{"GET", "/record/export", "The whole record as lines of JSON, and behind them a checkpoint that is signed for it", "viewer", false, nil, nil, 200, (*Server).exportRecord},
	{"GET", "/record/verification", "Whether the record holds", "viewer", false, nil, view.Verification{}, 200, (*Server).verify},
}

// give answers with a value, or its error.
func give(s *Server, ctx *gin.Context) func(any, error) {
	return func(v any, err error) {
		if err != nil {
			s.fail(ctx, err)
			return
		}
		ctx.JSON(http.StatusOK, v)
	}
}

// nothing answers that it is done, or the error.
func (s *Server) nothing(ctx *gin.Context, status int, err error) {
	if err != nil {
		s.fail(ctx, err)
		return
	}
	ctx.Status(status)
}

// read takes a request's JSON strictly.
func (s *Server) read(ctx *gin.Context, v any) bool {
	d := json.NewDecoder(ctx.Request.Body)
	d.DisallowUnknownFields()
	err := d.Decode(v)
	if err == nil {
		return true
	}
	var large *http.MaxBytesError
	if !errors.As(err, &large) {
		err = invalid{fmt.Errorf("the request is not the JSON wanted: %w", err)}
	}
	s.fail(ctx, err)
	return false
}

func (s *Server) text(ctx *gin.Context) ([]byte, bool) {
	data, err := io.ReadAll(ctx.Request.Body)
	if err != nil {
		s.fail(ctx, err)
	}
	return data, err == nil
}

func (s *Server) id(ctx *gin.Context) (int64, bool) {
	id, err := strconv.ParseInt(ctx.Param("id"), 10, 64)
	if err != nil || id < 1 {
		s.fail(ctx, invalid{fmt.Errorf("%q is not a number", ctx.Param("id"))})
		return 0, false
	}
	return id, true
}

// How long sign-ins last.
const (
	sessionLasts = 12 * time.Hour
	tokenLasts   = 30 * 24 * time.Hour
	longestToken = 366 * 24 * time.Hour
)

func (s *Server) signIn(ctx *gin.Context) {
	var in view.SignIn
	if !s.read(ctx, &in) {
		return
	}
	if in.Kind != "" && in.Kind != "session" {
		s.fail(ctx, invalid{fmt.Errorf("kind %q; want session. Once signed in, make a token for a program with POST %s/tokens", in.Kind, prefix)})
		return
	}
	in.Kind = "session"
	var token string
	err := s.limit.attempt(ctx, s.source(ctx), in.Name, func() (err error) {
		token, err = s.Store.SignIn(ctx, in.Name, in.Password, in.Kind, in.Label, s.source(ctx), sessionLasts)
		return err
	})
	if err != nil {
		s.fail(ctx, err)
		return
	}
	account, err := s.Store.Who(ctx, token)
	if err != nil {
		s.fail(ctx, err)
		return
	}
	if in.Label == "console" {
		s.giveSession(ctx, token)
		token = ""
	}
	ctx.JSON(http.StatusOK, view.SignedIn{Account: account, Token: token})
}

func (s *Server) signOut(ctx *gin.Context) {
	http.SetCookie(ctx.Writer, &http.Cookie{Name: cookie, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1})
	s.nothing(ctx, http.StatusNoContent, s.Store.SignOut(ctx, token(ctx)))
}

func (s *Server) loadHosts(ctx *gin.Context) {
	var hosts []view.Host
	if !s.read(ctx, &hosts) {
		return
	}
	for _, h := range hosts {
		if h.Name == "" || h.Address == "" || h.Login == "" {
			s.fail(ctx, invalid{fmt.Errorf("host %q: want name, address (ip:port) and login", h.Name)})
			return
		}
		if err := host.CheckKey(h.HostKey); h.HostKey != "" && err != nil {
			s.fail(ctx, invalid{fmt.Errorf("host %q: %w", h.Name, err)})
			return
		}
	}
	out, err := s.Store.LoadHosts(ctx, who(ctx).Name, hosts)
	give(s, ctx)(out, err)
}

func (s *Server) survey(ctx *gin.Context) {
	var in view.SurveyOrder
	if !s.read(ctx, &in) {
		return
	}
	asked, failed, err := s.Engine.Survey(ctx, in.Where)
	if err != nil {
		s.fail(ctx, err)
		return
	}
	out := view.Surveyed{Hosts: asked, Failed: map[string]string{}, Aside: map[string]string{}}
	for name, err := range failed {
		if engine.Aside(err) {
			out.Aside[name] = err.Error()
		} else {
			out.Failed[name] = err.Error()
		}
	}
	ctx.JSON(http.StatusOK, out)
}

func (s *Server) ask(ctx *gin.Context) {
	var in view.AskOrder
	if !s.read(ctx, &in) {
		return
	}
	if len(in.Asks) == 0 || in.Where == "" {
		s.fail(ctx, invalid{errors.New("want where and at least one probe")})
		return
	}
	out, err := s.Engine.Ask(ctx, who(ctx).Name, in.Where, in.Service, in.Asks)
	var missing *store.NotFound
	if err != nil && !errors.As(err, &missing) {
		err = invalid{err}
	}
	give(s, ctx)(out, err)
}

func (s *Server) putSecret(ctx *gin.Context) {
	var in view.NewSecret
	if !s.read(ctx, &in) {
		return
	}
	out, err := s.Store.PutSecret(ctx, who(ctx).Name, ctx.Param("name"), in.Value, in.Binding)
	give(s, ctx)(out, err)
}

func (s *Server) loadService(ctx *gin.Context) {
	data, ok := s.text(ctx)
	if !ok {
		return
	}
	svc, err := definition.Parse("definition", data)
	if err != nil {
		s.fail(ctx, invalid{err})
		return
	}
	give(s, ctx)(s.Store.LoadService(ctx, who(ctx).Name, svc))
}

func (s *Server) try(ctx *gin.Context) {
	var in view.Trying
	if !s.read(ctx, &in) {
		return
	}
	svc, err := definition.Parse("definition", []byte(in.Source))
	if err != nil {
		s.fail(ctx, invalid{err})
		return
	}
	give(s, ctx)(s.Engine.Try(ctx, who(ctx).Name, svc, in.Host))
}

func (s *Server) approveService(ctx *gin.Context) {
	var in view.Judgement
	if s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, s.Store.ApproveService(ctx, who(ctx).Name, ctx.Param("name"), in.Digest))
	}
}

func (s *Server) withdrawService(ctx *gin.Context) {
	var in view.Judgement
	if s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, s.Store.WithdrawService(ctx, who(ctx).Name, ctx.Param("name"), in.Digest, in.Because))
	}
}

func (s *Server) changes(ctx *gin.Context) {
	n, ok := s.numbers(ctx, 500, "before")
	since, ok2 := s.moment(ctx, "since")
	if !ok || !ok2 {
		return
	}
	underWay := ctx.Query("under_way")
	if underWay != "" && underWay != "true" && underWay != "false" {
		s.fail(ctx, invalid{fmt.Errorf("under_way: %q; want true or false", underWay)})
		return
	}
	all, err := s.Store.Changes(ctx, store.Filter{State: change.State(ctx.Query("state")), Service: ctx.Query("service"), Author: ctx.Query("author"), Host: ctx.Query("host"), Text: ctx.Query("text"),
		Since: since, UnderWay: underWay == "true", Before: n[1], Limit: int(n[0])})
	for i := range all {
		all[i].Next = view.Asked(all[i])
	}
	give(s, ctx)(all, err)
}

func (s *Server) draft(ctx *gin.Context) {
	data, ok := s.text(ctx)
	if !ok {
		return
	}
	spec, err := change.Parse("change", data)
	if err != nil {
		s.fail(ctx, invalid{err})
		return
	}
	var id int64
	if ctx.Param("id") != "" {
		if id, ok = s.id(ctx); !ok {
			return
		}
	}
	basis, ok := s.basis(ctx)
	if !ok {
		return
	}
	if err = s.Engine.Literals(ctx, spec); err == nil && spec.Prolongs == 0 {
		err = s.Store.KnownServices(ctx, spec.Services)
	}
	if err == nil {
		id, err = s.Store.Revise(ctx, who(ctx).Name, id, basis, spec)
	}
	if err != nil {
		s.fail(ctx, err)
		return
	}
	ctx.JSON(http.StatusCreated, view.Created{ID: id})
}

func (s *Server) counter(ctx *gin.Context) {
	var in view.Judgement
	id, ok := s.id(ctx)
	if !ok || !s.read(ctx, &in) {
		return
	}
	if strings.TrimSpace(in.Because) == "" {
		s.fail(ctx, invalid{errors.New("because: is empty; say why the change is taken back")})
		return
	}
	made, err := s.Engine.Counter(ctx, who(ctx).Name, id, in.Because)
	if err != nil {
		s.fail(ctx, err)
		return
	}
	ctx.JSON(http.StatusCreated, view.Created{ID: made})
}

func (s *Server) detail(ctx *gin.Context) (*view.ChangeDetail, bool) {
	id, ok := s.id(ctx)
	if !ok {
		return nil, false
	}
	d, err := s.Store.Change(ctx, id)
	if err != nil {
		s.fail(ctx, err)
		return nil, false
	}
	if spec, err := change.Stored("change", d.Names, []byte(d.Source)); err == nil {
		d.Reason, d.Ticket, d.Where, d.TakesBack = spec.Reason, spec.Ticket, spec.Where, spec.TakesBack
	}
	d.Next = view.Asked(d.Change)
	return d, true
}

func (s *Server) change(ctx *gin.Context) {
	if d, ok := s.detail(ctx); ok {
		ctx.JSON(http.StatusOK, d)
	}
}

func (s *Server) rehearse(ctx *gin.Context) {
	id, ok := s.id(ctx)
	if !ok {
		return
	}
	begin := s.Engine.Rehearse
	missed, ok := s.onlyHosts(ctx, "missed")
	if !ok {
		return
	}
	if missed {
		begin = s.Engine.RehearseMissed
	}
	s.nothing(ctx, http.StatusAccepted, begin(ctx, who(ctx).Name, id))
}

// known gives the number of the change a request is about, and answers where
// there is none.
func (s *Server) known(ctx *gin.Context) (int64, bool) {
	id, ok := s.id(ctx)
	if !ok {
		return 0, false
	}
	if err := s.Store.Known(ctx, id); err != nil {
		s.fail(ctx, err)
		return 0, false
	}
	return id, true
}

// numbers reads numbers from a request's query, 0 where one is not given; the
// first, "limit", is how many rows are wanted: most where it is not given or more.
func (s *Server) numbers(ctx *gin.Context, most int, names ...string) ([]int64, bool) {
	out := make([]int64, 1+len(names))
	for i, name := range append([]string{"limit"}, names...) {
		text, given := ctx.GetQuery(name)
		if !given {
			continue
		}
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 || i == 0 && n == 0 {
			s.fail(ctx, invalid{fmt.Errorf("%s: %q is not a whole number in the range that is wanted there", name, text)})
			return nil, false
		}
		out[i] = n
	}
	if out[0] == 0 || out[0] > int64(most) {
		out[0] = int64(most)
	}
	return out, true
}

// moment reads a time of the address; the zero time where there is none.
func (s *Server) moment(ctx *gin.Context, name string) (at time.Time, ok bool) {
	text := ctx.Query(name)
	if text == "" {
		return at, true
	}
	at, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		s.fail(ctx, invalid{fmt.Errorf("%s: %q is not a time as in RFC 3339", name, text)})
	}
	return at, err == nil
}

// rows is the longest page of a list.
const rows = 1000

func (s *Server) rehearsedHosts(ctx *gin.Context) {
	n, ok := s.numbers(ctx, rows)
	if !ok {
		return
	}
	if id, ok := s.known(ctx); ok {
		give(s, ctx)(s.Store.RehearsedHosts(ctx, id, ctx.Query("group"), ctx.Query("after"), int(n[0])))
	}
}

func (s *Server) services(ctx *gin.Context) {
	if n, ok := s.numbers(ctx, rows); ok {
		give(s, ctx)(s.Store.Services(ctx, ctx.Query("name"), ctx.Query("after"), int(n[0])))
	}
}

func (s *Server) hosts(ctx *gin.Context) {
	n, ok := s.numbers(ctx, rows)
	if !ok {
		return
	}
	f := store.HostFilter{Name: ctx.Query("name"), After: ctx.Query("after"), Limit: int(n[0]), Labels: map[string]string{}}
	for _, label := range ctx.QueryArray("label") {
		key, value, ok := strings.Cut(label, "=")
		if was, twice := f.Labels[key]; !ok || key == "" || twice && was != value {
			s.fail(ctx, invalid{fmt.Errorf("label=%s: want KEY=VALUE, each key once", label)})
			return
		}
		f.Labels[key] = value
	}
	f.Where = ctx.Query("where")
	all, err := s.Store.HostList(ctx, f)
	give(s, ctx)(all, err)
}

func (s *Server) leaveOut(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.Exclusion
	if ok && s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, s.Store.LeaveOut(ctx, who(ctx).Name, id, in.Host, in.Because))
	}
}

func (s *Server) setAside(ctx *gin.Context) {
	var in view.HostChange
	if !s.read(ctx, &in) {
		return
	}
	name, err := ctx.Param("name"), error(nil)
	switch {
	case (in.Aside == nil) != in.Back:
		err = invalid{errors.New("want either aside or back")}
	case in.Back:
		err = s.Store.TakeBack(ctx, who(ctx).Name, name)
	default:
		err = s.Store.SetAside(ctx, who(ctx).Name, name, in.Aside.Because, in.Aside.Until)
	}
	s.nothing(ctx, http.StatusNoContent, err)
}

func (s *Server) pinKey(ctx *gin.Context) {
	var in view.KeyPinned
	if s.read(ctx, &in) {
		out, err := s.Engine.PinKey(ctx, who(ctx).Name, ctx.Param("name"), in.Fingerprint)
		give(s, ctx)(out, err)
	}
}

func (s *Server) raiseFence(ctx *gin.Context) {
	seen, err := s.Engine.RaiseFence(ctx, who(ctx).Name, ctx.Param("name"))
	give(s, ctx)(view.Raised{To: seen}, err)
}
