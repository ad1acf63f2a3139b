// Package client speaks to a Reshard service through its API. The command line
// uses nothing else.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// Client speaks to one service as one user.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// New makes a client. address is the service's, such as http://127.0.0.1:8474;
// token may be empty for signing in.
func New(address, token string) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return nil, fault.New(fault.Invalid, "use address", address, "it should look like http://127.0.0.1:8474")
	}
	// Answers may take as long as a server takes to start; connecting may not.
	transport := &http.Transport{
		DialContext: (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
		Proxy:       http.ProxyFromEnvironment,
	}
	return &Client{
		base:  strings.TrimRight(u.String(), "/") + "/api/v1",
		token: token,
		http:  &http.Client{Transport: transport},
	}, nil
}

func (c *Client) request(ctx context.Context, method, path string, body io.Reader,
	kind string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, fault.Wrap(fault.Invalid, method, path, err)
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		var coded *fault.Error
		switch {
		case errors.As(err, &coded): // the body that was being sent failed at its source
			return nil, coded
		case ctx.Err() != nil:
			return nil, fault.Wrap(fault.Interrupted, "ask", c.base, context.Cause(ctx))
		}
		return nil, unreached("reach the service at", c.base, err)
	}
	if res.StatusCode >= 400 {
		defer res.Body.Close() //nolint:errcheck // only read
		return nil, errorOf(res)
	}
	return res, nil
}

// lookThere is what to do when the service itself does not answer.
const lookThere = "Check the address and that the service runs there: reshard serve."

// unreached is the error of a service that does not answer.
func unreached(op, what string, err error) error {
	return &fault.Error{Code: fault.Unreachable, Op: op, Path: what, Err: err, Next: lookThere}
}

// errorOf turns a problem document back into the error it came from.
func errorOf(res *http.Response) error {
	data, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		return fault.Wrap(fault.Unreachable, "read answer of", res.Request.URL.Host, err)
	}
	var p wire.Problem
	if json.Unmarshal(data, &p) != nil || p.Code == "" {
		return fault.New(fault.Unreachable, "ask", res.Request.URL.String(),
			"the answer is %s and no problem document: is this a Reshard service?", res.Status).With(lookThere)
	}
	what := p.Detail
	for _, e := range p.Errors {
		what += "; " + e.Location + ": " + e.Message
	}
	return (&fault.Error{Code: fault.Code(p.Code), What: what}).With(p.Next)
}

func call[T any](ctx context.Context, c *Client, method, path string, in any) (out T, err error) {
	var body io.Reader
	kind := ""
	if in != nil {
		data, err := json.Marshal(in)
		if err != nil {
			return out, fault.Wrap(fault.Internal, method, path, err)
		}
		body, kind = bytes.NewReader(data), "application/json"
	}
	res, err := c.request(ctx, method, path, body, kind)
	if err != nil {
		return out, err
	}
	return decode[T](res)
}

func decode[T any](res *http.Response) (out T, err error) {
	defer res.Body.Close() //nolint:errcheck // only read
	if res.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(res.Body).Decode(&out); err != nil {
		return out, fault.Wrap(fault.Unreachable, "read answer of", res.Request.URL.Host, err)
	}
	return out, nil
}

// gather reads a list page by page: all of it, or at most limit.
func gather[T any](ctx context.Context, c *Client, path string, query any, limit int) ([]T, error) {
	out := []T{}
	values := wire.Values(query)
	if limit == 0 {
		values.Set("limit", "1000") // few pages
	}
	for at := path + "?" + values.Encode(); at != "" && (limit == 0 || len(out) < limit); {
		res, err := c.request(ctx, http.MethodGet, at, nil, "")
		if err != nil {
			return nil, err
		}
		next := nextOf(res.Header.Get("Link"))
		part, err := decode[[]T](res)
		if err != nil {
			return nil, err
		}
		out, at = append(out, part...), next
	}
	return out, nil
}

// nextOf is the address of the next page, from the API's root (RFC 8288); "" for none.
func nextOf(link string) string {
	target, params, ok := strings.Cut(link, ">")
	if !ok || !strings.Contains(params, `rel="next"`) {
		return ""
	}
	return strings.TrimPrefix(strings.TrimPrefix(target, "<"), "/api/v1")
}

// SignIn gives a token for name.
func (c *Client) SignIn(ctx context.Context, name, password, label string) (wire.Token, error) {
	return call[wire.Token](ctx, c, http.MethodPost, "/sign-in",
		map[string]string{"name": name, "password": password, "kind": "token", "label": label})
}

// SignOut ends the client's token.
func (c *Client) SignOut(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, http.MethodPost, "/sign-out", nil)
	return err
}

// Health asks whether the service can work.
func (c *Client) Health(ctx context.Context) error {
	_, err := call[map[string]string](ctx, c, http.MethodGet, "/health", nil)
	return err
}

// Users lists users.
func (c *Client) Users(ctx context.Context) ([]wire.User, error) {
	return call[[]wire.User](ctx, c, http.MethodGet, "/users", nil)
}

// AddUser adds a user.
func (c *Client) AddUser(ctx context.Context, name, password string) error {
	_, err := call[struct{}](ctx, c, http.MethodPost, "/users", map[string]string{"name": name, "password": password})
	return err
}

// SetPassword sets a user's password; of one's own the present one is needed.
func (c *Client) SetPassword(ctx context.Context, name, password, present string) error {
	_, err := call[struct{}](ctx, c, http.MethodPut, "/users/"+url.PathEscape(name)+"/password",
		map[string]string{"password": password, "present": present})
	return err
}

// Me says who is signed in.
func (c *Client) Me(ctx context.Context) (wire.User, error) {
	return call[wire.User](ctx, c, http.MethodGet, "/me", nil)
}

// RemoveUser removes a user.
func (c *Client) RemoveUser(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, "/users/"+url.PathEscape(name), nil)
	return err
}

// Games lists the games that the service knows.
func (c *Client) Games(ctx context.Context) ([]wire.Game, error) {
	return call[[]wire.Game](ctx, c, http.MethodGet, "/games", nil)
}

// SaveGame saves a profile as the next version of its game's.
func (c *Client) SaveGame(ctx context.Context, profile string, override bool) (wire.Game, error) {
	return call[wire.Game](ctx, c, http.MethodPost, "/games", wire.SaveGame{Profile: profile, Override: override})
}

// GameVersions lists every version that was uploaded for a game, newest first.
func (c *Client) GameVersions(ctx context.Context, id string) ([]wire.GameVersion, error) {
	return call[[]wire.GameVersion](ctx, c, http.MethodGet, "/games/"+url.PathEscape(id)+"/versions", nil)
}

// WithdrawGame takes what was uploaded for a game out of use.
func (c *Client) WithdrawGame(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, "/games/"+url.PathEscape(id), nil)
	return err
}

// Worlds gives the worlds of the library that are looked for: all, or at most q.Limit.
func (c *Client) Worlds(ctx context.Context, q wire.WorldQuery) ([]wire.World, error) {
	return gather[wire.World](ctx, c, "/worlds", q, q.Limit)
}

// World gives one world.
func (c *Client) World(ctx context.Context, ref string) (wire.World, error) {
	return call[wire.World](ctx, c, http.MethodGet, "/worlds/"+url.PathEscape(ref), nil)
}

// VerifyWorld has a copy read back from the vault.
func (c *Client) VerifyWorld(ctx context.Context, ref string) (wire.Copy, error) {
	return call[wire.Copy](ctx, c, http.MethodPost, "/worlds/"+url.PathEscape(ref)+"/verify", nil)
}

// Send sends a zip archive as it is read. root says which world, if it holds
// several; size may be -1.
func (c *Client) Send(ctx context.Context, name, root string, archive io.Reader,
	size int64) (out wire.Arrival, err error) {
	q := url.Values{"name": {name}}
	if root != "" {
		q.Set("root", root)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.base+"/worlds?"+q.Encode(), io.NopCloser(archive))
	if err != nil {
		return out, fault.Wrap(fault.Invalid, "send", name, err)
	}
	req.ContentLength = size
	req.Header.Set("Content-Type", "application/zip")
	req.Header.Set("Authorization", "Bearer "+c.token)
	res, err := c.http.Do(req)
	if err != nil {
		var coded *fault.Error
		if errors.As(err, &coded) {
			return out, coded
		}
		return out, unreached("send "+name+" to", c.base, err)
	}
	if res.StatusCode >= 400 {
		defer res.Body.Close() //nolint:errcheck // only read
		return out, errorOf(res)
	}
	return decode[wire.Arrival](res)
}

// Servers gives the servers that are looked for: all, or at most q.Limit.
func (c *Client) Servers(ctx context.Context, q wire.ServerQuery) ([]wire.Server, error) {
	return gather[wire.Server](ctx, c, "/servers", q, q.Limit)
}

// Server gives one server with what its files say.
func (c *Client) Server(ctx context.Context, name string) (wire.ServerFacts, error) {
	return call[wire.ServerFacts](ctx, c, http.MethodGet, "/servers/"+url.PathEscape(name), nil)
}

// AddServer adds a server.
func (c *Client) AddServer(ctx context.Context, n wire.NewServer) (wire.ServerFacts, error) {
	return call[wire.ServerFacts](ctx, c, http.MethodPost, "/servers", n)
}

// Hosts lists the machines and accounts where servers live.
func (c *Client) Hosts(ctx context.Context) ([]wire.Host, error) {
	return call[[]wire.Host](ctx, c, http.MethodGet, "/hosts", nil)
}

// Host gets a host.
func (c *Client) Host(ctx context.Context, name string) (wire.Host, error) {
	return call[wire.Host](ctx, c, http.MethodGet, "/hosts/"+url.PathEscape(name), nil)
}

// AddHost adds an account on another machine. Without an accepted key the error has code
// NeedsChoice, and its option is the fingerprint that the host shows.
func (c *Client) AddHost(ctx context.Context, n wire.NewHost) (wire.Host, error) {
	return call[wire.Host](ctx, c, http.MethodPost, "/hosts", n)
}

// ChangeHost changes how a host is reached or signed in to.
func (c *Client) ChangeHost(ctx context.Context, name string, change wire.HostChange) (wire.Host, error) {
	return call[wire.Host](ctx, c, http.MethodPatch, "/hosts/"+url.PathEscape(name), change)
}

// CheckHost finds out what can be done on a host, which takes some seconds.
func (c *Client) CheckHost(ctx context.Context, name string) (wire.Host, error) {
	return call[wire.Host](ctx, c, http.MethodPost, "/hosts/"+url.PathEscape(name)+"/check", nil)
}

// SetProvider records the provider's own interface of a host.
func (c *Client) SetProvider(ctx context.Context, name string, n wire.NewProvider) (wire.Host, error) {
	return call[wire.Host](ctx, c, http.MethodPut, "/hosts/"+url.PathEscape(name)+"/provider", n)
}

// TryProvider looks whether a server can be seen by its provider's own interface.
func (c *Client) TryProvider(ctx context.Context, name, machine string) ([]wire.Tried, error) {
	return call[[]wire.Tried](ctx, c, http.MethodGet,
		"/hosts/"+url.PathEscape(name)+"/provider/try?machine="+url.QueryEscape(machine), nil)
}

// Slots lists a provider's own backups of a server.
func (c *Client) Slots(ctx context.Context, server string) (wire.Slots, error) {
	return call[wire.Slots](ctx, c, http.MethodGet, slotsOf(server), nil)
}

// MakeSlot has the provider make one, and waits until that is done.
func (c *Client) MakeSlot(ctx context.Context, server string) (wire.Slots, error) {
	return call[wire.Slots](ctx, c, http.MethodPost, slotsOf(server), nil)
}

// RemoveSlot has the provider remove one.
func (c *Client) RemoveSlot(ctx context.Context, server, backup string) (wire.Slots, error) {
	return call[wire.Slots](ctx, c, http.MethodDelete, slotsOf(server)+"/"+url.PathEscape(backup), nil)
}

func slotsOf(server string) string { return "/servers/" + url.PathEscape(server) + "/slots" }

// RemoveHost forgets a host on which no servers are.
func (c *Client) RemoveHost(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, "/hosts/"+url.PathEscape(name), nil)
	return err
}

// ChangeServer changes how a server is controlled.
func (c *Client) ChangeServer(ctx context.Context, name string, change wire.ServerChange) (wire.ServerFacts, error) {
	return call[wire.ServerFacts](ctx, c, http.MethodPatch, "/servers/"+url.PathEscape(name), change)
}

// SayStarted gives a person's word that a server runs that only people can see.
func (c *Client) SayStarted(ctx context.Context, name string) (wire.ServerFacts, error) {
	return call[wire.ServerFacts](ctx, c, http.MethodPost, "/servers/"+url.PathEscape(name)+"/started", nil)
}

// StartServer starts a server and waits until it is ready. Code needs-choice: see wire.StartServer.
func (c *Client) StartServer(ctx context.Context, name string, how wire.StartServer) (wire.ServerFacts, error) {
	return call[wire.ServerFacts](ctx, c, http.MethodPost, "/servers/"+url.PathEscape(name)+"/start", how)
}

// StopServer stops a server and waits for its end.
func (c *Client) StopServer(ctx context.Context, name string, how wire.StopServer) (wire.ServerFacts, error) {
	return call[wire.ServerFacts](ctx, c, http.MethodPost, "/servers/"+url.PathEscape(name)+"/stop", how)
}

// SayStopped says that a server is stopped of which that cannot be told.
func (c *Client) SayStopped(ctx context.Context, name string) (wire.ServerFacts, error) {
	return c.SayStoppedDespite(ctx, name, false)
}

// SayStoppedDespite says so also, with despite, where signs say that it runs.
func (c *Client) SayStoppedDespite(ctx context.Context, name string, despite bool) (wire.ServerFacts, error) {
	return call[wire.ServerFacts](ctx, c, http.MethodPost, "/servers/"+url.PathEscape(name)+"/stopped",
		wire.SayStopped{DespiteSigns: despite})
}

// IntendWorld says that a server runs the world that it should.
func (c *Client) IntendWorld(ctx context.Context, name string, in wire.IntendWorld) (wire.ServerFacts, error) {
	return call[wire.ServerFacts](ctx, c, http.MethodPost, "/servers/"+url.PathEscape(name)+"/intended", in)
}

// RemoveServer forgets a stopped server.
func (c *Client) RemoveServer(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, "/servers/"+url.PathEscape(name), nil)
	return err
}

// Sheet makes the fit sheet of what a person wants to do.
func (c *Client) Sheet(ctx context.Context, wish wire.Wish) (wire.Sheet, error) {
	q := wire.Values(wish)
	for k, v := range wish.Choices {
		q.Add("choose", k+"="+v)
	}
	return call[wire.Sheet](ctx, c, http.MethodGet, "/fit?"+q.Encode(), nil)
}

// CheckServer makes the fit sheet of a server alone.
func (c *Client) CheckServer(ctx context.Context, server string) (wire.Sheet, error) {
	return call[wire.Sheet](ctx, c, http.MethodGet, "/fit?"+url.Values{"server": {server}}.Encode(), nil)
}

// Draft works a changeover out; nothing is touched.
func (c *Client) Draft(ctx context.Context, wish wire.Wish) (wire.Changeover, error) {
	return call[wire.Changeover](ctx, c, http.MethodPost, "/changeovers", wish)
}

// Changeovers gives the changeovers that are looked for: all, or at most q.Limit.
func (c *Client) Changeovers(ctx context.Context, q wire.ChangeoverQuery) ([]wire.Changeover, error) {
	return gather[wire.Changeover](ctx, c, "/changeovers", q, q.Limit)
}

// Changeover gives one changeover.
func (c *Client) Changeover(ctx context.Context, id int64) (wire.Changeover, error) {
	return call[wire.Changeover](ctx, c, http.MethodGet, fmt.Sprintf("/changeovers/%d", id), nil)
}

// Act starts, cancels, goes on with, leaves, retries or settles a changeover.
func (c *Client) Act(ctx context.Context, id int64, verb string) (wire.Changeover, error) {
	return call[wire.Changeover](ctx, c, http.MethodPost, fmt.Sprintf("/changeovers/%d/%s", id, verb), nil)
}

// Tick tells whether a landmark was found after a changeover.
func (c *Client) Tick(ctx context.Context, id, landmark int64, seen bool) (wire.Changeover, error) {
	return call[wire.Changeover](ctx, c, http.MethodPut, fmt.Sprintf("/changeovers/%d/landmarks/%d", id, landmark),
		map[string]bool{"seen": seen})
}

// Landmarks lists what to look for in a world.
func (c *Client) Landmarks(ctx context.Context, world string) ([]wire.Landmark, error) {
	return call[[]wire.Landmark](ctx, c, http.MethodGet, "/worlds/"+url.PathEscape(world)+"/landmarks", nil)
}

// AddLandmark notes something to look for in a world.
func (c *Client) AddLandmark(ctx context.Context, world string, n wire.NewLandmark) ([]wire.Landmark, error) {
	return call[[]wire.Landmark](ctx, c, http.MethodPost, "/worlds/"+url.PathEscape(world)+"/landmarks", n)
}

// RemoveLandmark forgets a landmark.
func (c *Client) RemoveLandmark(ctx context.Context, world string, id int64) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete,
		fmt.Sprintf("/worlds/%s/landmarks/%d", url.PathEscape(world), id), nil)
	return err
}

// Aside lists what changeovers have set aside on a server.
func (c *Client) Aside(ctx context.Context, server string) ([]wire.Aside, error) {
	return call[[]wire.Aside](ctx, c, http.MethodGet, "/servers/"+url.PathEscape(server)+"/aside", nil)
}

// Tidy removes what a changeover has set aside, for good: by its number, or by the name of its folder.
func (c *Client) Tidy(ctx context.Context, server, which, confirm string) (wire.Aside, error) {
	return call[wire.Aside](ctx, c, http.MethodDelete,
		fmt.Sprintf("/servers/%s/aside/%s?%s", url.PathEscape(server), url.PathEscape(which),
			url.Values{"confirm": {confirm}}.Encode()), nil)
}

// KeepFolder keeps a folder of a changeover that is not on record as it is.
func (c *Client) KeepFolder(ctx context.Context, server, folder string) (wire.Aside, error) {
	return call[wire.Aside](ctx, c, http.MethodPost,
		"/servers/"+url.PathEscape(server)+"/aside/"+url.PathEscape(folder)+"/keep", nil)
}

// Archive gets a copy as the game's own program takes it, or as an archive: as is game,
// zip or tar.zst. It gives the file's name too. The caller closes it.
func (c *Client) Archive(ctx context.Context, world, as string) (io.ReadCloser, string, error) {
	res, err := c.request(ctx, http.MethodGet,
		"/worlds/"+url.PathEscape(world)+"/archive?"+url.Values{"as": {as}}.Encode(), nil, "")
	if err != nil {
		return nil, "", err
	}
	_, params, _ := mime.ParseMediaType(res.Header.Get("Content-Disposition")) // without a name the caller finds one
	return res.Body, params["filename"], nil
}

// Picture gets a copy from above, as PNG; with spawn and landmarks when marks is set. The
// caller closes it.
func (c *Client) Picture(ctx context.Context, world string, marks bool) (io.ReadCloser, error) {
	return c.picture(ctx, fmt.Sprintf("/worlds/%s/picture?marks=%t", url.PathEscape(world), marks), world)
}

// picture gets an image; an empty answer says that there is nothing to draw yet.
func (c *Client) picture(ctx context.Context, path, of string) (io.ReadCloser, error) {
	res, err := c.request(ctx, http.MethodGet, path, nil, "")
	if err != nil {
		return nil, err
	}
	if res.StatusCode == http.StatusNoContent {
		_ = res.Body.Close() // it is empty
		return nil, fault.New(fault.NotFound, "draw", of,
			"there is no picture: nothing of the world has been explored yet")
	}
	return res.Body, nil
}

// Files lists the files of a copy.
func (c *Client) Files(ctx context.Context, world string) ([]wire.CopyFile, error) {
	return call[[]wire.CopyFile](ctx, c, http.MethodGet, "/worlds/"+url.PathEscape(world)+"/files", nil)
}

// File gets one file of a copy. The caller closes it.
func (c *Client) File(ctx context.Context, world, path string) (io.ReadCloser, error) {
	return c.body(ctx, "/worlds/"+url.PathEscape(world)+"/file?"+url.Values{"path": {path}}.Encode())
}

// Watch gives a changeover's states until it rests, and returns the last.
func (c *Client) Watch(ctx context.Context, id int64, see func(wire.Changeover)) (last wire.Changeover, err error) {
	err = events(ctx, c, fmt.Sprintf("/changeovers/%d/events", id), func(now wire.Changeover) error {
		last = now
		see(now)
		return nil
	})
	return last, err
}

// FollowLog gives a server's last lines and every new one until ctx ends.
func (c *Client) FollowLog(ctx context.Context, server string, last int, see func([]wire.LogLine) error) error {
	return events(ctx, c, fmt.Sprintf("/servers/%s/log?last=%d", url.PathEscape(server), last), see)
}

// events reads server-sent events whose data are values of one type.
func events[T any](ctx context.Context, c *Client, path string, see func(T) error) error {
	res, err := c.request(ctx, http.MethodGet, path, nil, "")
	if err != nil {
		return err
	}
	defer res.Body.Close() //nolint:errcheck // only read
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var v T
		if err := json.Unmarshal([]byte(data), &v); err != nil {
			return fault.Wrap(fault.Unreachable, "read events of", c.base, err)
		}
		if err := see(v); err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil && ctx.Err() == nil {
		return fault.Wrap(fault.Unreachable, "read events of", c.base, err)
	}
	return nil
}
