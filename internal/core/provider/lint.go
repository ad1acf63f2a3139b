package provider

import (
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"reshard/internal/core/doclang"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
)

// Pattern is a regular expression of a description.
type Pattern = game.Pattern

// Longest bounds an untrusted description, in bytes.
const Longest = 64 << 10

// Parse reads and validates a description; name is used in messages only. The error has code
// BadProfile and lists every complaint; Lint gives them as data.
func Parse(name string, data []byte) (*Description, error) {
	d, complaints := Lint(data)
	if len(complaints) == 0 {
		return d, nil
	}
	lines := make([]string, len(complaints))
	for i, c := range complaints {
		lines[i] = c.String()
	}
	return nil, fault.New(fault.BadProfile, "read provider description", name, "%s", strings.Join(lines, "; "))
}

// Lint reads a description and gives everything that is wrong with it.
func Lint(data []byte) (*Description, []doclang.Complaint) {
	d := &Description{}
	doc, complaints := doclang.Decode(data, Longest, "a provider description", d)
	if len(complaints) > 0 {
		return nil, complaints
	}
	l := &linter{Linter: doc, d: d}
	l.check()
	l.Sort()
	if len(l.Complaints) > 0 {
		return nil, l.Complaints
	}
	return d, nil
}

type linter struct {
	*doclang.Linter
	d *Description
}

var idPattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// always are the placeholders that stand everywhere.
var always = []string{"machine", "user", "secret"}

func (l *linter) check() {
	d := l.d
	if d.Reshard != Language {
		l.Complain("$.reshard", "this program reads %q descriptions, this one says %q", Language, d.Reshard)
	}
	if !idPattern.MatchString(d.ID) {
		l.Complain("$.id", "an id is 1 to 40 of a-z, 0-9 and hyphen, and begins with a letter; this one is %q", d.ID)
	}
	if d.Title == "" {
		l.Complain("$.title", "the provider's name, as people write it, is missing")
	}
	l.signIn("$.sign-in", &d.SignIn)
	if r := d.Rate; r.Requests < 0 || (r.Requests == 0) != (r.In == 0) {
		l.Complain("$.rate", "a rate is so many requests, in so long")
	}
	known := slices.Clone(always)
	if !d.SignIn.Token.IsZero() {
		known = append(known, "token")
	}
	l.request("$.state.request", &d.State.Request, known)
	l.answer("$.state.word", &d.State.Word, true)
	l.answer("$.state.since", &d.State.Since, false)
	l.words("$.state", d.State)
	for key, act := range map[string]*Act{"start": &d.Start, "stop": &d.Stop, "console": &d.Console} {
		with := known
		if key == "console" {
			with = append(slices.Clone(known), "line")
		}
		l.act("$."+key, act, with, key)
	}
	l.log("$.log", &d.Log, known)
	l.archives(d, known)
	l.backups("$.backups", &d.Backups, known)
	for name, f := range d.Fields {
		l.field(doclang.At("$.fields", name), name, &f, known)
		d.Fields[name] = f // its patterns are compiled
	}
	l.answer("$.errors", &d.Errors, false)
}

func (l *linter) log(key string, g *Log, known []string) {
	if g.Request == nil {
		return
	}
	with := known
	switch g.By {
	case "", LogAsked:
		with = append(slices.Clone(known), "after")
	case LogEvents, LogWebSocket:
		if g.Request.Get == "" || g.Request.Job != nil {
			l.Complain(key+".request", "what the log comes by is opened by get, and is no job")
		}
		if !g.Next.IsZero() {
			l.Complain(key+".next", "that is for a log that is asked for")
		}
	default:
		l.Complain(key+".by", "a log comes by %s, %s or %s, not by %q", LogAsked, LogEvents, LogWebSocket, g.By)
	}
	if g.Say != nil && g.By != LogWebSocket {
		l.Complain(key+".say", "that is for a log that comes by %s", LogWebSocket)
	}
	if g.Event != "" && g.By != LogEvents {
		l.Complain(key+".event", "that is for a log that comes by %s", LogEvents)
	}
	eachText(g.Say, func(text string) { l.text(key+".say", text, known) })
	l.request(key+".request", g.Request, with)
	l.pointer(key+".lines", g.Lines)
	l.pointer(key+".text", g.Text)
	l.answer(key+".next", &g.Next, false)
}

// Formats are the archives that a page may be asked to unpack.
var Formats = []string{"zip", "tar", "tar.gz"}

// archives complains of how files are sent to the page, and unpacked there.
func (l *linter) archives(d *Description, known []string) {
	named := append(slices.Clone(known), "path", "folder", "name")
	if r := d.Upload.Request; r != nil {
		l.request("$.upload.request", r, named)
		if r.File == "" {
			l.Complain("$.upload.request.file", "where the file goes is missing: body, or the name of the form's field")
		}
		if r.JSON != nil || r.File == FileBody && r.Form != nil || r.Get != "" || r.Delete != "" {
			l.Complain("$.upload.request", "its body is the file, beside the texts of a form at most")
		}
		if d.Upload.Most() == 0 {
			l.Complain("$.upload.limit", "how large a file may be is missing, such as 64 MB; this is %q",
				d.Upload.Limit)
		}
		if !strings.Contains(r.all(), "{path}") && !strings.Contains(r.all(), "{folder}") {
			l.Complain("$.upload.request", "nothing in it is {path} or {folder}, where the file goes")
		}
	}
	u := d.Unpack
	if u.Request == nil {
		if d.Upload.Request != nil || u.Format != "" {
			l.Complain("$.unpack.request", "it is missing; only archives are sent to the page")
		}
		return
	}
	if !slices.Contains(Formats, u.Format) {
		l.Complain("$.unpack.format", "it is %s, not %q", strings.Join(Formats, ", "), u.Format)
	}
	l.request("$.unpack.request", u.Request, append(named, "into"))
	for _, needed := range []string{"{path}", "{into}"} {
		if all := u.Request.all(); !strings.Contains(all, needed) &&
			(needed == "{into}" || !strings.Contains(all, "{name}")) {
			l.Complain("$.unpack.request", "nothing in it is %s", needed)
		}
	}
}

func (l *linter) backups(key string, b *Backups, known []string) {
	if b.Allowance < 0 {
		l.Complain(key+".allowance", "it is a number, or left out")
	}
	if r := b.List.Request; r != nil {
		l.request(key+".list.request", r, append(slices.Clone(known), "page"))
		if b.List.Name == "" {
			l.Complain(key+".list.name", "where each says its name is missing")
		}
		for of, pointer := range map[string]string{
			"items": b.List.Items, "name": b.List.Name, "made": b.List.Made, "size": b.List.Size,
		} {
			l.pointer(key+".list."+of, pointer)
		}
		l.answer(key+".list.next", &b.List.Next, false)
		if !b.List.Next.IsZero() && !strings.Contains(r.all(), "{page}") {
			l.Complain(key+".list.next", "nothing uses it: {page} belongs in the request")
		}
	}
	l.act(key+".make", &b.Make, known, "make")
	l.act(key+".remove", &b.Remove, append(slices.Clone(known), "backup"), "remove")
	if r := b.Remove.Request; r != nil && !strings.Contains(r.all(), "{backup}") {
		l.Complain(key+".remove.request", "nothing in it is {backup}, the one to be removed")
	}
	if b.List.Request == nil && (b.Make.Request != nil || b.Remove.Request != nil || b.Allowance != 0) {
		l.Complain(key+".list.request", "it is missing: nobody would see what was made or removed")
	}
}

var fieldTitle = regexp.MustCompile(`^[^\s=:#!\\][^=:\\\r\n]{0,59}$`)

func (l *linter) field(key, name string, f *Field, known []string) {
	if !idPattern.MatchString(name) {
		l.Complain(key, "a field is named by a key of game profiles, such as active-world or seed")
	}
	if !fieldTitle.MatchString(f.Title) || strings.TrimSpace(f.Title) != f.Title {
		l.Complain(key+".title", "what the field is called is a short text without =, : and \\; this is %q", f.Title)
	}
	l.request(key+".read", &f.Read, known)
	l.answer(key+".value", &f.Value, true)
	l.request(key+".write", &f.Write, append(slices.Clone(known), "value"))
	if !strings.Contains(f.Write.all(), "{value}") {
		l.Complain(key+".write", "nothing in it is {value}, what the field is set to")
	}
}

func (l *linter) signIn(key string, s *SignIn) {
	known := slices.Clone(always)
	if s.Request != nil {
		l.request(key+".request", s.Request, known)
	}
	l.answer(key+".token", &s.Token, false)
	if !s.Token.IsZero() {
		if s.Request == nil {
			l.Complain(key+".token", "a token is what an answer gives: the request is missing")
		}
		known = append(known, "token")
		if !strings.Contains(s.Header.Value, "{token}") {
			l.Complain(key+".token", "nothing uses it: the header's value is where {token} belongs")
		}
	}
	if (s.Header.Name == "") != (s.Header.Value == "") {
		l.Complain(key+".header", "a header has a name and a value")
	}
	l.text(key+".header.value", s.Header.Value, known)
}

// words complains of states that nothing says, and of words that mean two of them.
func (l *linter) words(key string, s State) {
	if len(s.Running) == 0 {
		l.Complain(key+".running", "the words for a server that runs are missing")
	}
	if len(s.Stopped) == 0 {
		l.Complain(key+".stopped", "the words for a server that is down are missing")
	}
	seen := map[string]string{}
	for _, of := range []struct {
		name  string
		words []string
	}{{"running", s.Running}, {"starting", s.Starting}, {"stopping", s.Stopping}, {"stopped", s.Stopped}} {
		for _, w := range of.words {
			if other, twice := seen[w]; twice {
				l.Complain(key+"."+of.name, "%q is a word for %s, too", w, other)
			}
			seen[w] = of.name
		}
	}
}

func (l *linter) act(key string, a *Act, known []string, name string) {
	if a.Request == nil {
		if a.KillsAfter != 0 {
			l.Complain(key+".kills-after", "there is no request")
		}
		return
	}
	l.request(key+".request", a.Request, known)
	if a.KillsAfter != 0 && name != "stop" {
		l.Complain(key+".kills-after", "that is for stop")
	}
	if name == "console" && !strings.Contains(a.Request.all(), "{line}") {
		l.Complain(key+".request", "nothing in it is {line}, the line that is said")
	}
}

// Method gives the request's method and path.
func (r *Request) Method() (method, path string) {
	for _, m := range r.methods() {
		if m[1] != "" {
			return m[0], m[1]
		}
	}
	return "", ""
}

func (r *Request) methods() [][2]string {
	return [][2]string{
		{"GET", r.Get}, {"POST", r.Post}, {"PUT", r.Put}, {"PATCH", r.Patch}, {"DELETE", r.Delete},
	}
}

// all is every text of a request in which placeholders may stand.
func (r *Request) all() string {
	var b strings.Builder
	for _, m := range r.methods() {
		b.WriteString(m[1] + "\n")
	}
	for _, texts := range []map[string]string{r.Query, r.Headers, r.Form} {
		for _, k := range slices.Sorted(maps.Keys(texts)) {
			b.WriteString(texts[k] + "\n")
		}
	}
	eachText(r.JSON, func(s string) { b.WriteString(s + "\n") })
	return b.String()
}

// FileBody says that a request's body is the file alone.
const FileBody = "body"

// longestTaken bounds how long an answer may take.
const longestTaken = time.Hour

func (l *linter) request(key string, r *Request, known []string) {
	n := 0
	for _, m := range r.methods() {
		if m[1] != "" {
			n++
			l.path(key+"."+strings.ToLower(m[0]), m[1])
		}
	}
	if n != 1 {
		l.Complain(key, "a request names one path, by get, post, put, patch or delete; this one names %d", n)
	}
	if r.Form != nil && r.JSON != nil {
		l.Complain(key, "a request has one body: form or json")
	}
	if r.File != "" && key != "$.upload.request" {
		l.Complain(key+".file", "that is for upload")
	}
	if r.Takes < 0 || r.Takes > longestTaken {
		l.Complain(key+".takes", "an answer takes no longer than %s", longestTaken)
	}
	if (r.Form != nil || r.JSON != nil) && (r.Get != "" || r.Delete != "") {
		l.Complain(key, "such a request has no body")
	}
	for _, code := range r.Expect {
		if code < 200 || code > 399 {
			l.Complain(key+".expect", "%d is no code of a good answer", code)
		}
	}
	known = slices.Clone(known)
	if f := r.First; f != nil {
		l.path(key+".first.get", f.Get)
		l.text(key+".first.get", f.Get, known)
		if len(f.Find) == 0 {
			l.Complain(key+".first.find", "nothing is found in its answer")
		}
		for name, a := range f.Find {
			l.answer(doclang.At(key+".first.find", name), &a, true)
			f.Find[name] = a
			if slices.Contains(always, name) || name == "token" {
				l.Complain(doclang.At(key+".first.find", name), "{%s} is something else already", name)
			}
			known = append(known, name)
		}
	}
	for line := range strings.SplitSeq(r.all(), "\n") {
		l.text(key, line, known)
	}
	if j := r.Job; j != nil {
		l.answer(key+".job.name", &j.Name, true)
		l.answer(key+".job.state", &j.State, true)
		l.request(key+".job.ask", &j.Ask, append(known, "job"))
		if len(j.Done) == 0 {
			l.Complain(key+".job.done", "the words for a job that is done are missing")
		}
		if j.Ask.Job != nil {
			l.Complain(key+".job.ask.job", "a job is asked about by a request that names no other")
		}
	}
}

// path complains of what would lead to another origin.
func (l *linter) path(key, path string) {
	u, err := url.Parse(path)
	if err != nil || !strings.HasPrefix(path, "/") || strings.HasPrefix(path, "//") || u.Host != "" ||
		u.Fragment != "" {
		l.Complain(key, "%q is no path from the origin, such as /machines/{machine}", path)
	}
}

var placeholder = regexp.MustCompile(`\{([a-z][a-z0-9-]*)\}`)

// text complains of placeholders that nothing fills.
func (l *linter) text(key, text string, known []string) {
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(known, m[1]) {
			l.Complain(key, "nothing fills {%s} here; there are {%s}", m[1], strings.Join(known, "}, {"))
		}
	}
}

func (l *linter) answer(key string, a *Answer, needed bool) {
	switch {
	case a.Pick != "" && !a.Find.IsZero():
		l.Complain(key, "it stands in one place: pick or find")
	case a.IsZero() && needed:
		l.Complain(key, "where it stands in the answer is missing: pick, a JSON pointer, or find, a regular expression")
	case a.Pick != "":
		l.pointer(key+".pick", a.Pick)
	case !a.Find.IsZero():
		if err := a.Find.Compile("value"); err != nil {
			l.Complain(key+".find", "%v", err)
		}
	}
}

// pointer complains of what is no JSON pointer (RFC 6901).
func (l *linter) pointer(key, p string) {
	if p != "" && !strings.HasPrefix(p, "/") {
		l.Complain(key, "a JSON pointer begins with a slash, such as /data/state; this is %s", strconv.Quote(p))
	}
}
