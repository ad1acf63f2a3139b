// Package providerlink speaks to a hosting provider's own interface, over HTTP, as a provider
// description says.
package providerlink

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"golang.org/x/time/rate"

	"reshard/internal/core/fault"
	"reshard/internal/core/provider"
	"reshard/internal/line"
)

const (
	// answerPatience is how long an answer may take, mostAnswered how large it may be, in bytes.
	answerPatience = 20 * time.Second
	mostAnswered   = 4 << 20
	mostHeaders    = 64 << 10
	// mostPatient is how long a provider that asks to wait is waited for within one call.
	mostPatient = 20 * time.Second
	mostTurns   = 5
	// firstAsked is after how long a job is asked about a second time.
	firstAsked = 50 * time.Millisecond
)

// Account is where a provider's interface is and with what it is signed in to. Origin is a scheme, a
// host and a port; nothing is sent to any other. Secret is a password, a key or a token.
type Account struct {
	// Name is of the host as recorded, for messages.
	Name   string
	Origin string
	User   string
	Secret string
	// Private: the origin may be an address of a private network or of this machine.
	Private bool
}

// Link speaks to a provider. It is safe for concurrent use.
//
// Errors have code Unreachable when the provider does not answer, fails or does not accept the
// sign-in, TooSlow when it asks to wait for long, Refused when it does not do what was asked, Misbehaving when it sends
// more than it may: it is then left alone for a while.
type Link struct {
	account Account
	origin  *url.URL
	of      *provider.Description
	client  *http.Client
	streams *http.Client // for what upgrades a connection: HTTP/1.1 alone
	ended   context.Context
	end     func()
	limit   *rate.Limiter // nil: none
	rest    line.Rest

	signing sync.Mutex // held by the one who signs in
	mu      sync.Mutex // held for moments only
	token   string
	signed  time.Time // zero: not signed in
}

// New makes a link; nothing is asked yet. Invalid: the origin is none.
func New(a Account, d *provider.Description) (*Link, error) {
	origin, err := url.Parse(strings.TrimSuffix(strings.TrimSpace(a.Origin), "/"))
	if err != nil || (origin.Scheme != "https" && origin.Scheme != "http") || origin.Host == "" || origin.Path != "" ||
		origin.User != nil || origin.RawQuery != "" || origin.Fragment != "" {
		return nil, fault.New(fault.Invalid, "reach the provider of", a.Name, "%q is no origin", a.Origin).
			With("An origin looks like https://panel.example or https://panel.example:8443, without a path.")
	}
	if origin.Scheme == "http" && !a.Private {
		return nil, fault.New(fault.Invalid, "reach the provider of", a.Name,
			"%s is not encrypted: everybody on the way "+
				"could read what it is signed in with", a.Origin).With("Use https.")
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "reach the provider of", a.Name, err)
	}
	l := &Link{account: a, origin: origin, of: d}
	l.ended, l.end = context.WithCancel(context.Background())
	l.client = &http.Client{
		Jar:           jar,
		CheckRedirect: l.mayFollow,
		Transport: &http.Transport{
			DialContext: line.Dialer(a.Private).DialContext, TLSHandshakeTimeout: line.DialPatience,
			MaxIdleConnsPerHost: 2,
			IdleConnTimeout:     time.Minute, ForceAttemptHTTP2: true, MaxResponseHeaderBytes: mostHeaders,
		},
	}
	plain := l.client.Transport.(*http.Transport).Clone() //nolint:forcetypeassert // it was made above
	plain.ForceAttemptHTTP2, plain.TLSNextProto = false, map[string]func(string, *tls.Conn) http.RoundTripper{}
	l.streams = &http.Client{Jar: jar, CheckRedirect: l.mayFollow, Transport: plain}
	if r := d.Rate; r.Requests > 0 {
		l.limit = rate.NewLimiter(rate.Limit(float64(r.Requests)/r.In.Seconds()), max(1, r.Requests/4))
	}
	return l, nil
}

// Close ends the streams, and the connections that nobody uses.
func (l *Link) Close() error {
	l.end()
	l.streams.CloseIdleConnections()
	l.client.CloseIdleConnections()
	return nil
}

// Rest tells whether the provider misbehaves.
func (l *Link) Rest() *line.Rest { return &l.rest }

// Description is what the link goes by.
func (l *Link) Description() *provider.Description { return l.of }

// errElsewhere is the cause of an error for an answer that leads to another origin.
var errElsewhere = errors.New("it leads to another origin, where nothing is sent")

func (l *Link) mayFollow(next *http.Request, via []*http.Request) error {
	if next.URL.Scheme != l.origin.Scheme || next.URL.Host != l.origin.Host {
		return errElsewhere
	}
	if len(via) > mostTurns {
		return errors.New("it leads on and on")
	}
	return nil
}

// values are what placeholders stand for in every request.
func (l *Link) values(machine string) provider.Values {
	l.mu.Lock()
	defer l.mu.Unlock()
	return provider.Values{
		"machine": machine, "user": l.account.User, "secret": l.account.Secret, "token": l.token,
	}
}

// Ask makes a request about a machine and gives its answer, once a job that it began has ended. more
// are further placeholders. A sign-in that does not count any more is made again, once.
func (l *Link) Ask(ctx context.Context, r *provider.Request, machine string, more provider.Values) ([]byte, error) {
	return l.ask(ctx, r, machine, more, nil)
}

// Send makes a request whose body is a file, which open gives anew for each try.
func (l *Link) Send(ctx context.Context, r *provider.Request, machine string, more provider.Values, file File) error {
	_, err := l.ask(ctx, r, machine, more, &file)
	return err
}

// File is what is sent as a request's body, or in it.
type File struct {
	Name string // the last part
	Size int64
	Open func() (io.ReadCloser, error)
}

func (l *Link) ask(ctx context.Context, r *provider.Request, machine string, more provider.Values, file *File,
) (body []byte, err error) {
	err = l.signedIn(ctx, machine, more, func(values provider.Values) error {
		if body, err = l.once(ctx, r, values, file); err == nil && r.Job != nil {
			body, err = l.await(ctx, r.Job, body, values)
		}
		return err
	})
	return body, err
}

// signedIn does something with what the sign-in gave. One that does not count any more is made again, once.
func (l *Link) signedIn(ctx context.Context, machine string, more provider.Values, do func(provider.Values) error,
) error {
	for again := false; ; again = true {
		if err := l.signIn(ctx, again); err != nil {
			return err
		}
		values := l.values(machine)
		maps.Copy(values, more)
		err := do(values)
		if !errors.As(err, new(*refusal)) || again || l.of.SignIn.Request == nil {
			return l.worded(err)
		}
	}
}

// refusal is the cause of an error for an answer that says that the sign-in does not count.
type refusal struct{ error }

func (l *Link) worded(err error) error {
	if !errors.As(err, new(*refusal)) {
		return err
	}
	f := &fault.Error{
		Code: fault.Unreachable, Op: "sign in to the provider of", Path: l.account.Name, Err: err,
		What: "it does not accept what is kept for it (" + err.Error() + ")",
	}
	return f.With("Give what it accepts now: reshard hosts provider " + l.account.Name + " --secret.")
}

// signIn makes the sign-in's request unless it still counts; anew makes it whether or not.
func (l *Link) signIn(ctx context.Context, anew bool) error {
	s := l.of.SignIn
	if s.Request == nil {
		return nil
	}
	begun := time.Now()
	l.signing.Lock()
	defer l.signing.Unlock()
	l.mu.Lock()
	signed := l.signed
	l.mu.Unlock()
	counts := !signed.IsZero() && (s.Lasts == 0 || time.Since(signed) < s.Lasts*9/10)
	if counts && (!anew || signed.After(begun)) {
		return nil
	}
	body, err := l.once(ctx, s.Request, l.values(""), nil)
	if err != nil {
		return l.worded(err)
	}
	token := ""
	if !s.Token.IsZero() {
		if token, err = s.Token.In(body); err != nil {
			return fault.New(fault.Unreachable, "sign in to the provider of", l.account.Name, "%v", err)
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.token, l.signed = token, time.Now()
	return nil
}

// await asks about a job until it has ended.
func (l *Link) await(ctx context.Context, j *provider.Job, body []byte, values provider.Values) ([]byte, error) {
	bad := func(err error) error {
		return fault.New(fault.Unreachable, "wait for", l.account.Name, "its provider's job cannot be followed: %v",
			err)
	}
	name, err := j.Name.In(body)
	if err != nil {
		return nil, bad(err)
	}
	values = values.With("job", name)
	every, within := j.Every, j.Within
	if every == 0 {
		every = time.Second
	}
	if within == 0 {
		within = 2 * time.Minute
	}
	pause := min(every, firstAsked)
	for begun := time.Now(); ; pause = min(2*pause, every) { // what is done at once is not waited for
		body, err := l.once(ctx, &j.Ask, values, nil)
		if err != nil {
			return nil, err
		}
		state, err := j.State.In(body)
		switch {
		case err != nil:
			return nil, bad(err)
		case slices.Contains(j.Done, state):
			return body, nil
		case slices.Contains(j.Failed, state):
			return nil, fault.New(fault.Refused, "wait for", l.account.Name, "its provider's job has failed: %s",
				l.reason(body, state))
		case time.Since(begun) > within:
			return nil, fault.New(fault.TooSlow, "wait for", l.account.Name, "its provider's job is not done within %s",
				within)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// once makes a request, and what has to be made before it, within the rate. Where the provider asks
// to wait a moment it does.
func (l *Link) once(ctx context.Context, r *provider.Request, values provider.Values, file *File) ([]byte, error) {
	values, err := l.first(ctx, r.First, values)
	if err != nil {
		return nil, err
	}
	for begun := time.Now(); ; {
		if err := l.turn(ctx); err != nil {
			return nil, err
		}
		body, wait, err := l.send(ctx, r, values, file)
		if wait == 0 {
			return body, err
		}
		if time.Since(begun)+wait > mostPatient {
			return nil, fault.New(fault.TooSlow, "ask the provider of", l.account.Name,
				"it asks to wait for %s before it is asked again", wait)
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// turn waits until the rate lets something be asked.
func (l *Link) turn(ctx context.Context) error {
	if l.limit == nil {
		return nil
	}
	if err := l.limit.Wait(ctx); err != nil {
		return errors.Join(ctx.Err(), fault.New(fault.TooSlow, "ask the provider of", l.account.Name,
			"it may not be asked so often"))
	}
	return nil
}

// first makes the request that another one needs something of, and gives what it found beside the values.
func (l *Link) first(ctx context.Context, f *provider.First, values provider.Values) (provider.Values, error) {
	if f == nil {
		return values, nil
	}
	body, err := l.once(ctx, &provider.Request{Get: f.Get}, values, nil)
	if err != nil {
		return nil, err
	}
	for name, a := range f.Find {
		found, err := a.In(body)
		if err != nil {
			return nil, fault.New(fault.Unreachable, "ask the provider of", l.account.Name, "%s: %v", name, err)
		}
		values = values.With(name, found)
	}
	return values, nil
}

// errNoAnswer is the cause of an error for an answer that took longer than it may.
var errNoAnswer = errors.New("nothing comes in time")

// within gives a context for one request, which ends when its answer takes longer than it may, counted from
// when something of its file went out last.
func within(ctx context.Context, r *provider.Request) (rctx context.Context, touch, done func()) {
	patience := answerPatience
	if r.Takes > 0 {
		patience = r.Takes
	}
	rctx, cancel := context.WithCancelCause(ctx)
	timer := time.AfterFunc(patience, func() { cancel(errNoAnswer) })
	return rctx, func() { timer.Reset(patience) }, func() { timer.Stop(); cancel(nil) }
}

// send makes one request. wait is for how long the provider asks to wait first (429).
func (l *Link) send(ctx context.Context, r *provider.Request, values provider.Values, file *File) (
	body []byte, wait time.Duration, err error,
) {
	rctx, touch, done := within(ctx, r)
	defer done()
	if err := l.rest.Err(); err != nil {
		return nil, 0, err
	}
	req, err := l.request(rctx, r, values, file, touch)
	if err != nil {
		return nil, 0, err
	}
	answer, err := l.client.Do(req)
	if err != nil && errors.Is(context.Cause(rctx), errNoAnswer) {
		err = errNoAnswer
	}
	if err != nil {
		return nil, 0, l.notAnswered(ctx, err)
	}
	defer answer.Body.Close() //nolint:errcheck // only read
	body, err = io.ReadAll(io.LimitReader(answer.Body, mostAnswered+1))
	switch {
	case err != nil:
		return nil, 0, l.notAnswered(ctx, err)
	case len(body) > mostAnswered:
		return nil, 0, l.exceeds(line.Exceeds("an answer of more than %d MB", mostAnswered>>20))
	}
	code := answer.StatusCode
	switch {
	case len(r.Expect) > 0 && slices.Contains(r.Expect, code), len(r.Expect) == 0 && code >= 200 && code <= 299:
		return body, 0, nil
	case code == http.StatusTooManyRequests:
		return nil, retryAfter(answer), nil
	}
	return nil, 0, l.no(r, answer, body)
}

// no says what an answer means that is none of the good ones.
func (l *Link) no(r *provider.Request, answer *http.Response, body []byte) error {
	method, path := r.Method()
	asked, why := method+" "+path, l.reason(body, answer.Status)
	switch code := answer.StatusCode; {
	case code == http.StatusUnauthorized, code == http.StatusForbidden:
		return &refusal{fmt.Errorf("%s: %s", asked, why)}
	case code == http.StatusNotFound:
		return fault.New(fault.Refused, "ask the provider of", l.account.Name, "%s: it knows nothing of that (%s)",
			asked, why).
			With("Look at what the provider calls the server (--machine), and at the path in the description.")
	case code == http.StatusRequestEntityTooLarge:
		return fault.New(fault.TooLarge, "ask the provider of", l.account.Name, "%s: it takes nothing so large (%s)",
			asked, why).With("Lower upload.limit in the description.")
	case code >= 500:
		return fault.New(fault.Unreachable, "ask the provider of", l.account.Name, "%s: it fails (%s)", asked, why)
	}
	return fault.New(fault.Refused, "ask the provider of", l.account.Name, "%s: it does not (%s)", asked, why).
		With("Its answer is all that is known; look on the provider's own page.")
}

func retryAfter(answer *http.Response) time.Duration {
	text := answer.Header.Get("Retry-After") // RFC 9110, 10.2.3
	if n, err := strconv.Atoi(text); err == nil && n >= 0 {
		return max(time.Duration(min(n, 3600))*time.Second, 100*time.Millisecond)
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(time.Until(at), 100*time.Millisecond)
	}
	return 2 * time.Second
}

// exceeds gives the error of a provider that exceeded a limit, and notes that it did.
func (l *Link) exceeds(over error) error {
	bad := line.Misbehaves("ask the provider of", l.account.Name, over)
	l.rest.Note(bad)
	return bad
}

func (l *Link) notAnswered(ctx context.Context, err error) error {
	var asked *url.Error
	if errors.As(err, &asked) {
		err = asked.Err // without the address, which may hold what is secret
	}
	what := line.Words(err)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, websocket.ErrMessageTooBig), errors.Is(err, bufio.ErrTooLong):
		return l.exceeds(line.Exceeds("a message or event of more than %d MB", mostTold>>20))
	case line.LongHeaders(err):
		return l.exceeds(line.Exceeds("headers of more than %d kB", mostHeaders>>10))
	case errors.Is(err, errElsewhere):
		what = errElsewhere.Error()
	case errors.Is(err, line.ErrPrivate):
		return &fault.Error{
			Code: fault.Refused, Op: "reach the provider of", Path: l.account.Name, Err: err,
			What: line.ErrPrivate.Error(),
			Next: "When that is meant, an administrator may allow it: --private.",
		}
	}
	return &fault.Error{
		Code: fault.Unreachable, Op: "reach the provider of", Path: l.account.Name, Err: err,
		What: "it does not answer at " + l.account.Origin + " (" + what + ")",
	}
}

// reason is what an answer says of why, else its status.
func (l *Link) reason(body []byte, status string) string {
	l.mu.Lock()
	token := l.token
	l.mu.Unlock()
	status = line.Scrub(status, l.account.Secret, token) // it may say again what it was told
	if l.of.Errors.IsZero() {
		return status
	}
	why, err := l.of.Errors.In(body)
	if err != nil || why == "" {
		return status
	}
	if why = line.Scrub(why, l.account.Secret, token); len(why) > 300 {
		why = why[:300] + " …"
	}
	return strings.ToValidUTF8(why, "�")
}

// request makes a request; touch is told whenever something of a file goes out.
func (l *Link) request(ctx context.Context, r *provider.Request, values provider.Values, file *File, touch func(),
) (*http.Request, error) {
	method, path := r.Method()
	at := *l.origin
	raw := l.origin.String() + values.Path(path)
	u, err := url.Parse(raw)
	if err != nil || u.Host != at.Host || u.Scheme != at.Scheme {
		return nil, fault.New(fault.Invalid, "ask the provider of", l.account.Name, "%s is no path of it", path)
	}
	query := u.Query()
	for k, v := range r.Query {
		query.Set(k, values.Text(v))
	}
	u.RawQuery = query.Encode()
	var body io.Reader
	kind, length := "", int64(-1)
	switch {
	case file != nil:
		if body, kind, length, err = l.withFile(r, values, *file, touch); err != nil {
			return nil, err
		}
	case r.Form != nil:
		form := url.Values{}
		for k, v := range r.Form {
			form.Set(k, values.Text(v))
		}
		body, kind = strings.NewReader(form.Encode()), "application/x-www-form-urlencoded"
	case r.JSON != nil:
		raw, err := values.JSON(r.JSON)
		if err != nil {
			return nil, fault.Wrap(fault.Invalid, "ask the provider of", l.account.Name, err)
		}
		body, kind = bytes.NewReader(raw), "application/json"
	}
	req, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		return nil, fault.Wrap(fault.Invalid, "ask the provider of", l.account.Name, err)
	}
	if length >= 0 {
		req.ContentLength = length
	}
	req.Header.Set("User-Agent", "Reshard")
	req.Header.Set("Accept", "application/json, text/plain;q=0.8, */*;q=0.5")
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	for k, v := range r.Headers {
		req.Header.Set(k, values.Text(v))
	}
	if h := l.of.SignIn.Header; h.Name != "" && (values["token"] != "" || !strings.Contains(h.Value, "{token}")) {
		req.Header.Set(h.Name, values.Text(h.Value))
	}
	return req, nil
}
