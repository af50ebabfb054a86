package api

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"reflect"
	"strconv"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/openapi3gen"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/goccy/go-yaml"

	"wladder/core/change"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/record"
	"wladder/core/view"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
	"wladder/store/postmaster"
)

var update = flag.Bool("update", false, "write openapi.yaml anew")

func TestMain(m *testing.M) {
	flag.Parse()
	openapi3filter.RegisterBodyDecoder(jsonLines, openapi3filter.PlainBodyDecoder)
	os.Exit(postmaster.ForTests(m, store.Migrate))
}

var enums = map[reflect.Type][]string{
	reflect.TypeFor[ladder.RunState]():   words(ladder.RunStates),
	reflect.TypeFor[ladder.Step]():       append(append(append([]string{""}, words(ladder.Forward)...), words(ladder.Back)...), string(ladder.Look)),
	reflect.TypeFor[ladder.ClimbState](): {"running", "paused", "waiting", "stopping", "completed", "stopped"},
	reflect.TypeFor[ladder.Order]():      words(ladder.Orders),
	reflect.TypeFor[ladder.Outcome]():    append([]string{""}, words(ladder.Outcomes)...),
	reflect.TypeFor[ladder.Proof]():      {"in-force", "probes", "none"},
	reflect.TypeFor[ladder.Files]():      {"old", "new", "mixed", "unknown"},
	reflect.TypeFor[ladder.Process]():    {"old", "new", "down", "unknown"},
	reflect.TypeFor[change.State]():      words(change.States),
	reflect.TypeFor[finding.Level]():     {"veto", "warn", "note"},
}

func words[T ~string](all []T) []string {
	out := make([]string, len(all))
	for i, w := range all {
		out[i] = string(w)
	}
	return out
}

// queries are what calls take behind the path: numbers, texts or times.
var queries = map[string]string{
	"GET /session/ways": "why:text", "GET /session/directory": "to:text", "GET /session/directory/back": "state:text code:text error:text",
	"GET /record":                        "change after limit",
	"GET /record/told":                   "change host:text by:text since:date-time until:date-time before limit",
	"GET /hosts":                         "after:text name:text where:text label:texts limit",
	"GET /services/{name}/parts":         "version",
	"GET /services":                      "after:text name:text limit",
	"GET /changes":                       "state:text service:text author:text host:text text:text since:date-time under_way:text before limit",
	"GET /calendar":                      "from:date-time to:date-time",
	"GET /drift":                         "host:text",
	"GET /hosts/{name}/files":            "service:text file:text",
	"GET /hosts/{name}/history":          "service:text file:text address:text",
	"GET /changes/{id}/rehearsal/picked": "group:text limit",
	"POST /changes/{id}/rehearsal":       "hosts:text",
	"POST /changes/{id}/climb":           "hosts:text",
	"GET /changes/{id}/differences":      "from:text to:text",
	"GET /changes/{id}/runs":             "after since:date-time state:text limit",
	"GET /changes/{id}/rehearsal/hosts":  "group:text after:text limit",
}

// describe makes the API's description from the table of routes.
func describe(t *testing.T) []byte {
	doc := &openapi3.T{OpenAPI: "3.1.0", Info: &openapi3.Info{Title: "Wide Ladder", Version: "1", Description: "Plans, approves and rolls out service-configuration changes. Errors are problems as in RFC 9457."},
		Servers: openapi3.Servers{{URL: prefix}}, Paths: openapi3.NewPaths(), Components: &openapi3.Components{Schemas: openapi3.Schemas{}, SecuritySchemes: openapi3.SecuritySchemes{
			"token":   {Value: openapi3.NewSecurityScheme().WithType("http").WithScheme("bearer").WithDescription("What POST /session answers, or POST /tokens for a program, as Authorization: Bearer TOKEN.")},
			"console": {Value: openapi3.NewSecurityScheme().WithType("apiKey").WithIn("cookie").WithName(cookie).WithDescription("The console's sign-in: a cookie that no script reads. What changes something is refused from pages of other origins.")},
		}}}
	customize := openapi3gen.SchemaCustomizer(func(_ string, typ reflect.Type, _ reflect.StructTag, schema *openapi3.Schema) error {
		schema.Nullable = false // what may be missing is left out
		for _, v := range enums[typ] {
			schema.Enum = append(schema.Enum, v)
		}
		if typ.Kind() == reflect.Array { // the generator knows slices alone
			of := map[reflect.Kind]*openapi3.Schema{reflect.String: openapi3.NewStringSchema(), reflect.Bool: openapi3.NewBoolSchema()}[typ.Elem().Kind()]
			*schema = *openapi3.NewArraySchema().WithItems(of).WithMinItems(int64(typ.Len())).WithMaxItems(int64(typ.Len()))
		}
		if typ == reflect.TypeFor[json.RawMessage]() {
			*schema = openapi3.Schema{Description: "any JSON"}
		}
		if typ.Kind() == reflect.Struct && schema.Properties != nil {
			schema.Required = nil
			for name := range schema.Properties {
				schema.Required = append(schema.Required, name)
			}
			for _, field := range reflect.VisibleFields(typ) {
				name, rest, _ := strings.Cut(field.Tag.Get("json"), ",")
				if strings.Contains(rest, "omitempty") {
					schema.Required = remove(schema.Required, name)
				}
			}
			sortStrings(schema.Required)
		}
		return nil
	})
	// What a plan comes to has plain names in its package, which say too little among all others.
	called := map[string]reflect.Type{}
	name := openapi3gen.CreateTypeNameGenerator(func(typ reflect.Type) string {
		name := typ.Name()
		if typ.PkgPath() == reflect.TypeFor[outline.Outline]().PkgPath() && typ != reflect.TypeFor[outline.Outline]() {
			name = "Planned" + name
		}
		if other, there := called[name]; there && other != typ {
			t.Errorf("%s and %s are both called %s", other, typ, name)
		}
		called[name] = typ
		return name
	})
	generator := openapi3gen.NewGenerator(customize, name, openapi3gen.CreateComponentSchemas(openapi3gen.ExportComponentSchemasOptions{ExportComponentSchemas: true, ExportTopLevelSchema: true}))
	shape := func(v any) *openapi3.SchemaRef {
		ref, err := generator.NewSchemaRefForValue(v, doc.Components.Schemas)
		if err != nil {
			t.Fatal(err)
		}
		return ref
	}
	problem := openapi3.NewResponse().WithDescription("A problem, as in RFC 9457").WithContent(openapi3.NewContentWithSchemaRef(shape(Problem{}), []string{"application/problem+json"}))
	for _, r := range routes {
		op := &openapi3.Operation{Summary: r.summary, OperationID: operation(r), Responses: openapi3.NewResponses()}
		op.Responses.Delete("default")
		if r.role != "" {
			op.Description = "Needs the role " + r.role + "."
		}
		if r.session {
			op.Description += " Needs a signed-in person, not a token."
		}
		op.Security = openapi3.NewSecurityRequirements()
		if r.role != "" {
			op.Security.With(openapi3.NewSecurityRequirement().Authenticate("token")).With(openapi3.NewSecurityRequirement().Authenticate("console"))
		}
		for _, part := range strings.Split(r.path, "/") {
			if strings.HasPrefix(part, "{") {
				p := openapi3.NewPathParameter(strings.Trim(part, "{}")).WithSchema(openapi3.NewStringSchema())
				if part == "{id}" {
					p = openapi3.NewPathParameter("id").WithSchema(openapi3.NewInt64Schema())
				}
				op.AddParameter(p)
			}
		}
		for _, q := range strings.Fields(queries[r.method+" "+r.path]) {
			name, kind, _ := strings.Cut(q, ":")
			schema := openapi3.NewInt64Schema()
			switch kind {
			case "":
			case "texts": // it may be said several times
				schema = openapi3.NewArraySchema().WithItems(openapi3.NewStringSchema())
			default:
				schema = openapi3.NewStringSchema().WithFormat(strings.TrimPrefix(kind, "text"))
			}
			op.AddParameter(openapi3.NewQueryParameter(name).WithSchema(schema))
		}
		if _, text := r.takes.(string); text {
			op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithContent(openapi3.NewContentWithSchema(openapi3.NewStringSchema(), []string{"application/yaml"}))}
		} else if r.takes != nil {
			op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithContent(openapi3.NewContentWithSchemaRef(shape(r.takes), []string{"application/json"}))}
		}
		ok := openapi3.NewResponse().WithDescription(r.summary)
		if r.gives != nil {
			ok = ok.WithJSONSchemaRef(shape(r.gives))
		} else if r.path == "/record/export" {
			ok = ok.WithContent(openapi3.NewContentWithSchema(openapi3.NewStringSchema(), []string{jsonLines}))
		} else if strings.HasSuffix(r.path, "/events") {
			ok = ok.WithContent(openapi3.NewContentWithSchema(openapi3.NewStringSchema(), []string{"text/event-stream"}))
		}
		op.AddResponse(r.status, ok)
		op.Responses.Set("default", &openapi3.ResponseRef{Value: problem})
		item := doc.Paths.Value(r.path)
		if item == nil {
			item = &openapi3.PathItem{}
			doc.Paths.Set(r.path, item)
		}
		item.SetOperation(r.method, op)
	}
	exampled(doc)
	data, err := json.Marshal(doc)
	if err != nil {
		t.Fatal(err)
	}
	text, err := yaml.JSONToYAML(data)
	if err != nil {
		t.Fatal(err)
	}
	return append([]byte("# Made from the table of routes: go test ./api -run Description -update\n"), text...)
}

func remove(all []string, one string) []string {
	var kept []string
	for _, s := range all {
		if s != one {
			kept = append(kept, s)
		}
	}
	return kept
}

func sortStrings(all []string) {
	for i := range all {
		for k := i; k > 0 && all[k] < all[k-1]; k-- {
			all[k], all[k-1] = all[k-1], all[k]
		}
	}
}

func operation(r route) string {
	name := strings.ToLower(r.method)
	for _, part := range strings.Split(strings.NewReplacer("{", "", "}", "").Replace(r.path), "/") {
		if part != "" {
			name += strings.ToUpper(part[:1]) + part[1:]
		}
	}
	return name
}

// TestDescription keeps openapi.yaml what the routes are.
func TestDescription(t *testing.T) {
	text := describe(t)
	if *update {
		if err := os.WriteFile("openapi.yaml", text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if have, _ := os.ReadFile("openapi.yaml"); !bytes.Equal(have, text) {
		t.Error("openapi.yaml is not what the routes say; run: go test ./api -run Description -update")
	}
}

// caller sends requests and holds every answer against the description.
type caller struct {
	t      *testing.T
	server *httptest.Server
	token  string
	store  *store.Store
	engine *engine.Engine
}

func newCaller(t *testing.T) (*caller, *store.Store) {
	st, err := store.Open(t.Context(), postmaster.Fresh(t), store.Key{1})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	for name, roles := range map[string][]string{"ines": {"author"}, "oda": {"reviewer"}, "ada": {"admin", "operator"}, "ben": {"admin"}, "vic": {}} {
		if err := st.AddAccount(t.Context(), "setup", view.Account{Name: name, Display: name, Roles: roles}, "a long password"); err != nil {
			t.Fatal(err)
		}
	}
	e := engine.New(engine.Config{Store: st, Dialer: engine.Over(&host.Dialer{})})
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { e.Run(ctx); close(ended) }()
	t.Cleanup(func() { cancel(); <-ended })
	c := &caller{t: t, store: st, engine: e}
	c.serve(Limits{})
	return c, st
}

func (c *caller) as(name, kind string) {
	c.token = ""
	var out view.SignedIn
	c.call("POST", "/session", view.SignIn{Name: name, Password: "a long password", Kind: "session", Label: "test"}, 200, &out)
	c.token = out.Token
	if kind == "token" {
		var made view.Token
		c.call("POST", "/tokens", view.NewToken{Label: "test", Scopes: out.Account.Roles}, 201, &made)
		c.token = made.Token
	}
}

func (c *caller) call(method, path string, body any, want int, out any) []byte {
	c.t.Helper()
	kind := "application/json"
	data, _ := json.Marshal(body)
	if text, ok := body.(string); ok {
		data, kind = []byte(text), "application/yaml"
	}
	request, _ := http.NewRequest(method, c.server.URL+prefix+path, bytes.NewReader(data))
	request.Header.Set("Content-Type", kind)
	request.Header.Set("Authorization", "Bearer "+c.token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		c.t.Fatal(err)
	}
	defer response.Body.Close()
	answer, _ := io.ReadAll(response.Body)
	if response.StatusCode != want {
		c.t.Errorf("%s %s: %d %s; want %d", method, path, response.StatusCode, answer, want)
		return answer
	}
	c.conforms(request, response, answer)
	if out != nil {
		if err := json.Unmarshal(answer, out); err != nil {
			c.t.Errorf("%s %s: %v in %s", method, path, err, answer)
		}
	}
	return answer
}

func (c *caller) conforms(request *http.Request, response *http.Response, answer []byte) {
	loader := openapi3.NewLoader()
	doc, err := loader.LoadFromFile("openapi.yaml")
	if err != nil {
		c.t.Fatal(err)
	}
	doc.Servers = openapi3.Servers{{URL: c.server.URL + prefix}}
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		c.t.Fatal(err)
	}
	found, params, err := router.FindRoute(request)
	if err != nil {
		c.t.Errorf("%s %s is not described: %v", request.Method, request.URL.Path, err)
		return
	}
	input := &openapi3filter.ResponseValidationInput{RequestValidationInput: &openapi3filter.RequestValidationInput{Request: request, PathParams: params, Route: found},
		Status: response.StatusCode, Header: response.Header, Options: &openapi3filter.Options{IncludeResponseStatus: true}}
	input.SetBodyBytes(answer)
	if err := openapi3filter.ValidateResponse(c.t.Context(), input); err != nil {
		c.t.Errorf("%s %s: the answer is not as described: %v\n%s", request.Method, request.URL.Path, err, answer)
	}
}

const pagesDefinition = "service: pages\ntitle: Pages\nwhere: cores > 0\nunit: nginx.service\nfiles: {main: {format: nginx, paths: {any: /etc/nginx/nginx.conf}}}\nacts: [{name: restart, command: [systemctl, restart, nginx.service]}]\n"

// nasty is text that must stay data wherever it goes.
const nasty = "it's \"$(touch oops)\" `x`; <script>alert(1)</script> ' or 1=1 --"

func draftText(title string) string {
	return fmt.Sprintf("title: %q\nreason: %q\nservice: pages\nwhere: name != \"\"\ncount: 1\nedits: [{set: worker_processes, to: 2}]\n", title, nasty+"\nsecond line")
}

func TestPeopleAndRoles(t *testing.T) {
	c, st := newCaller(t)
	c.call("GET", "/changes", nil, 401, nil)
	c.call("POST", "/session", view.SignIn{Name: "ines", Password: "wrong password", Kind: "session", Label: ""}, 401, nil)
	c.call("POST", "/session", view.SignIn{Name: "nobody", Password: "a long password", Kind: "session", Label: ""}, 401, nil)
	c.as("ines", "session")
	c.call("POST", "/services", pagesDefinition, 403, nil)
	c.as("ada", "session")
	var svc view.Service
	c.call("POST", "/services", pagesDefinition, 200, &svc)
	c.call("POST", "/services", pagesDefinition, 200, &svc)
	if svc.Version != 1 {
		t.Errorf("the same text again became version %d", svc.Version)
	}
	c.call("POST", "/services/pages/approval", view.Judgement{Digest: svc.Digest}, 403, nil)
	c.as("ben", "token")
	c.call("POST", "/services/pages/approval", view.Judgement{Digest: svc.Digest}, 403, nil) // a program
	c.as("ben", "session")
	c.call("POST", "/services/pages/approval", view.Judgement{Digest: "00"}, 422, nil)
	c.call("POST", "/services/pages/approval", view.Judgement{Digest: strings.Repeat("0", 12)}, 404, nil)
	c.call("POST", "/services/pages/approval", view.Judgement{Digest: svc.Digest[:12]}, 204, nil)
	c.call("GET", "/services", nil, 200, nil)

	c.as("ines", "token")
	var made view.Created
	c.call("POST", "/changes", draftText(nasty), 201, &made)
	path := fmt.Sprintf("/changes/%d", made.ID)
	var d view.ChangeDetail
	c.call("GET", path, nil, 200, &d)
	if d.Title != nasty || d.Reason != nasty+"\nsecond line" {
		t.Errorf("text did not stay data: %q, %q", d.Title, d.Reason)
	}
	c.call("POST", path+"/offer", nil, 409, nil)
	c.call("POST", path+"/climb", nil, 403, nil)
	c.call("POST", path+"/rehearsal", nil, 202, nil)
	c.call("GET", path+"/rehearsal/hosts", nil, 200, nil)
	c.as("oda", "session")
	c.call("POST", path+"/approval", view.Judgement{Digest: "00"}, 409, nil)
	c.call("GET", "/changes", nil, 200, nil)
	c.call("GET", "/changes/99", nil, 404, nil)
	c.call("GET", "/changes/x", nil, 422, nil)
	c.call("GET", "/record?limit=3", nil, 200, nil)
	var v view.Verification
	exported := c.call("GET", "/record/export", nil, 200, nil)
	if key, err := record.ParseKey(store.Key{1}.RecordKey()); err != nil {
		t.Error(err)
	} else if chain, end, err := record.Import(bytes.NewReader(exported), key); err != nil || chain.Seq != end.Seq || end.Seq < 10 {
		t.Errorf("exported: %d entries, %+v, %v", chain.Seq, end, err)
	}
	c.call("GET", "/record/verification", nil, 200, &v)
	if !v.Holds || v.Entries < 10 {
		t.Errorf("verification: %+v", v)
	}
	c.as("ada", "session")
	var secret view.Secret
	c.call("PUT", "/secrets/upload-token", view.NewSecret{Value: "tide-First_11"}, 200, &secret)
	c.call("PUT", "/secrets/upload-token", view.NewSecret{Value: "tide-Second_22"}, 200, &secret)
	if secret.Version != 2 || secret.By != "ada" {
		t.Errorf("kept as %+v", secret)
	}
	for name, value := range map[string]string{"upload-token": "short", "Bad Name": "tide-First_11"} {
		c.call("PUT", "/secrets/"+url.PathEscape(name), view.NewSecret{Value: value}, 422, nil)
	}
	if list := c.call("GET", "/secrets", nil, 200, nil); strings.Contains(string(list), "tide-") {
		t.Errorf("a secret is given away: %s", list)
	}
	c.call("POST", "/ask", view.AskOrder{Where: "true", Asks: []string{"unit x"}}, 422, nil) // no hosts yet
	c.call("POST", "/ask", view.AskOrder{Where: "true"}, 422, nil)
	c.call("POST", "/ask", view.AskOrder{Where: "true", Service: "none", Asks: []string{"unit x"}}, 422, nil)
	c.as("ines", "token")
	c.call("POST", "/ask", view.AskOrder{Where: "true", Asks: []string{"unit x"}}, 403, nil)
	c.call("PUT", "/secrets/upload-token", view.NewSecret{Value: "tide-Third_33"}, 403, nil)
	c.as("vic", "session") // without any role
	c.call("GET", "/changes", nil, 200, nil)
	c.call("POST", "/changes", draftText("x"), 403, nil)
	c.call("DELETE", "/session", nil, 204, nil)
	c.call("GET", "/session", nil, 401, nil)
	if err := st.AddAccount(t.Context(), "setup", view.Account{Name: "Bad Name", Display: "x"}, "a long password"); err == nil {
		t.Error("a bad account name was taken")
	}
}

func TestBadInputChangesNothing(t *testing.T) {
	c, _ := newCaller(t)
	c.as("ines", "session")
	for text, want := range map[string]string{
		"title: x\nbogus: 1\n":              `change:2:1: \"bogus\" is not a key here`,
		"{}":                                "title: is empty",
		"":                                  "change: is empty",
		strings.Repeat("#", 2<<20) + "\n\n": "longer than 2097152 bytes",
	} {
		status := 422
		if len(text) > 1<<20 {
			status = 413
		}
		if answer := c.call("POST", "/changes", text, status, nil); !strings.Contains(string(answer), want) {
			t.Errorf("%.40q: %s", text, answer)
		}
	}
	for path, want := range map[string]int{
		"/calendar": 422, "/calendar?from=2031-01-01T00:00:00Z&to=2030-01-01T00:00:00Z": 422, "/calendar?from=2031-01-01T00:00:00Z&to=2031-01-15T00:00:00Z": 200,
		"/changes?under_way=perhaps": 422, "/changes?since=yesterday": 422, "/changes?text=%00": 400, "/record/told?before=x": 422, "/record/told?until=2031": 422,
		"/services/none/parts": 404, "/services/none/parts?version=x": 422, "/hosts/none/services": 404, "/changes/9/course": 404, "/today": 200,
	} {
		c.call("GET", path, nil, want, nil)
	}
	// What is written is checked line by line, and nothing is kept of it.
	for text, want := range map[string]string{
		"title: x\nbogus: 1\n":              `"line":2,"column":1`,
		"reason: r\n\ntitle: ''\n":          `"line":3,"text":"title: is empty`,
		"title: t\nwhere: labels.role ==\n": `"line":2,"text":"where: `,
		"":                                  `"line":0`,
	} {
		if answer := c.call("POST", "/drafts/check", text, 200, nil); !strings.Contains(string(answer), want) {
			t.Errorf("%.40q is checked: %s; want %s", text, answer, want)
		}
	}
	var none []view.Change
	if c.call("GET", "/changes", nil, 200, &none); len(none) != 0 {
		t.Errorf("something was kept: %+v", none)
	}
	c.as("ada", "session")
	c.call("POST", "/hosts", []view.Host{{Name: "x", Address: "127.0.0.1:22", Login: "root", HostKey: "none"}}, 422, nil)
	var hosts []view.Host
	c.call("GET", "/hosts", nil, 200, &hosts)
	if len(hosts) != 0 {
		t.Errorf("a refused host was kept: %+v", hosts)
	}
	key := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJuvJLYAr9TG+oD5EXaMt9IiPbuJJqDlFkRSpg7hPuuV"
	c.call("POST", "/hosts", []view.Host{{Name: nasty, Address: "127.0.0.1:1", Login: "root", HostKey: key, Labels: map[string]string{nasty: nasty}}}, 200, nil)
	c.call("GET", "/hosts", nil, 200, &hosts)
	if len(hosts) != 1 || hosts[0].Name != nasty || hosts[0].Labels[nasty] != nasty {
		t.Errorf("names and labels did not stay data: %+v", hosts)
	}
	c.call("POST", "/survey", view.SurveyOrder{Where: "corse > 1"}, 422, nil)
	c.as("ada", "session")
	var surveyed view.Surveyed
	c.call("POST", "/survey", view.SurveyOrder{}, 200, &surveyed)
	var asked view.AskedHosts
	c.call("POST", "/ask", view.AskOrder{Where: "true", Asks: []string{"tcp :1", "unit nginx.service"}}, 200, &asked)
	if asked.Hosts != 1 || len(asked.Answers) != 2 || !asked.Answers[1].Groups[0].Missing {
		t.Errorf("asked: %+v", asked)
	}
	if surveyed.Hosts != 1 || !strings.Contains(surveyed.Failed[nasty], "cannot be reached") {
		t.Errorf("surveyed: %+v", surveyed)
	}
	// Another site's page cannot use the session's cookie.
	request, _ := http.NewRequest("POST", c.server.URL+prefix+"/changes", strings.NewReader(draftText("x")))
	request.Header.Set("Origin", "https://elsewhere.example")
	request.Header.Set("Sec-Fetch-Site", "cross-site")
	request.Header.Set("Authorization", "Bearer "+c.token)
	if response, err := http.DefaultClient.Do(request); err != nil || response.StatusCode != 403 {
		t.Errorf("a request from another origin: %v %v", strconv.Itoa(response.StatusCode), err)
	}
}

// TestTenThousandHosts loads and lists as many as a large office has, and pages
// of them.
func TestTenThousandHosts(t *testing.T) {
	c, _ := newCaller(t)
	c.as("ada", "token")
	hosts := make([]view.Host, 10_000)
	for i := range hosts {
		hosts[i] = view.Host{Name: fmt.Sprintf("gauge-%05d.vellmere.example", i), Address: fmt.Sprintf("192.0.2.%d:22", i%250+1), Login: "root",
			HostKey: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPFhJvT0yj1zxcYlpmsBXa5Zdif5Qe+sUcYUFzgv+p3u", Labels: map[string]string{"role": "gauge", "site": "upland"}}
	}
	c.call("POST", "/hosts", hosts, 200, nil)
	seen, pages := 0, 0
	for after := ""; ; pages++ {
		var page []view.Host
		c.call("GET", "/hosts?after="+url.QueryEscape(after), nil, 200, &page)
		if len(page) == 0 {
			break
		}
		seen, after = seen+len(page), page[len(page)-1].Name
	}
	if seen != len(hosts) || pages != 10 {
		t.Errorf("%d hosts on %d pages", seen, pages)
	}
}
