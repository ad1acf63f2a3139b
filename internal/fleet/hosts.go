package fleet

import (
	"context"
	"encoding/json"
	"path"
	"strings"
	"time"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/host"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// openHost is a host in hand, or why it is not.
type openHost struct {
	host.Driver
	rec records.Host
	err error
	// begun is when it was taken in hand.
	begun time.Time
	// provider is its provider's own interface, when there is one; providerErr why it is not in
	// hand.
	provider    host.Provider
	providerErr error
}

func (h *openHost) close() error {
	if h.provider != nil {
		_ = h.provider.Close() // nothing is under way
	}
	if c, ok := h.Driver.(host.Closer); ok {
		return c.Close()
	}
	return nil
}

// elsewhere gives a host as an account on another machine.
func (h *openHost) elsewhere(op string) (host.Elsewhere, error) {
	if e, ok := h.Driver.(host.Elsewhere); ok {
		return e, nil
	}
	return nil, fault.New(fault.Unsupported, op, h.rec.Name, "it is the service's own machine")
}

// openHost takes a host in hand; one that cannot be opened says why to whoever wants it.
func (fl *Fleet) openHost(ctx context.Context, rec records.Host) *openHost {
	h := &openHost{rec: rec, begun: fl.now()}
	spec, err := fl.specOf(rec)
	if h.err = err; err == nil {
		h.Driver, h.err = fl.Kinds.Open(ctx, spec)
	}
	h.hire(spec.Account.Secrets)
	fl.mu.Lock()
	defer fl.mu.Unlock()
	fl.hosts[rec.Name] = h
	return h
}

// hire takes the provider's interface of a host in hand, if it has one.
func (h *openHost) hire(secrets account.Secrets) {
	p := h.rec.Provider.V
	if p == nil {
		return
	}
	h.provider, h.providerErr = openProvider(host.ProviderSpec{
		Name: h.rec.Name, Description: p.Description, Origin: p.Origin, User: p.User, Secret: secrets.Provider,
		Private: p.Private,
	})
}

// specOf is what a kind of host needs to know of one on record.
func (fl *Fleet) specOf(rec records.Host) (host.Spec, error) {
	s := host.Spec{
		Name: rec.Name, Kind: rec.Kind, Data: fl.Data, Identity: fl.Identity, Account: rec.Account.V,
		Found: rec.Found.V,
	}
	s.Account.Name = rec.Name
	var err error
	if s.Account.Secrets, err = fl.unseal(rec); err == nil {
		agent, aerr := fl.agentOf(s.Account)
		if s.Account.Secrets.Agent = agent; len(s.Account.Secrets.Ways()) == 0 { // else it can do without
			err = aerr
		}
	}
	return s, err
}

func (fl *Fleet) unseal(rec records.Host) (account.Secrets, error) {
	if len(rec.Sealed) == 0 {
		return account.Secrets{}, nil
	}
	plain, err := fl.Secrets.Open(rec.Sealed, rec.Name)
	var told tellable
	if err == nil {
		err = fault.Wrap(fault.Damaged, "open the secrets of", rec.Name, json.Unmarshal(plain, &told))
	}
	return account.Secrets(told), err
}

// tellable are secrets that marshal as what they are.
type tellable account.Secrets

func (fl *Fleet) seal(name string, s account.Secrets) ([]byte, error) {
	if s == (account.Secrets{}) {
		return nil, nil
	}
	plain, err := json.Marshal(tellable(s))
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "seal the secrets of", name, err)
	}
	return fl.Secrets.Seal(plain, name)
}

func (fl *Fleet) inHand(name string) (*openHost, bool) {
	fl.mu.Lock()
	defer fl.mu.Unlock()
	h, ok := fl.hosts[name]
	return h, ok
}

func (fl *Fleet) host(name string) (*openHost, error) {
	h, ok := fl.inHand(name)
	if !ok {
		return nil, fault.New(fault.NotFound, "find", "host", "there is no host %q", name).
			With("reshard hosts lists them.")
	}
	return h, fault.Wrap(fault.Unreachable, "open host", name, h.err)
}

// Hosts gives all hosts in the order of their names.
func (fl *Fleet) Hosts(ctx context.Context) ([]wire.Host, error) {
	recs, err := fl.records.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	servers, err := fl.records.Servers(ctx)
	out := make([]wire.Host, 0, len(recs))
	for _, rec := range recs {
		out = append(out, fl.hostView(rec, servers))
	}
	return out, err
}

// Host gives one host.
func (fl *Fleet) Host(ctx context.Context, name string) (wire.Host, error) {
	rec, err := fl.records.Host(ctx, name)
	if err != nil {
		return wire.Host{}, err
	}
	servers, err := fl.records.Servers(ctx)
	return fl.hostView(rec, servers), err
}

func (fl *Fleet) hostView(rec records.Host, servers []records.Server) wire.Host {
	a := rec.Account.V
	v := wire.Host{
		Name: rec.Name, Kind: rec.Kind, Address: a.Host, Port: a.Port, User: a.User, Folder: a.Folder,
		TLS: a.TLS, Sessions: a.Sessions, BytesASecond: a.BytesASecond, Found: rec.Found.V,
	}
	if a.Protocol == account.FTP && a.TLS == "" {
		v.TLS = account.Explicit
	}
	for _, s := range servers {
		if s.Host == rec.Name {
			v.Servers++
		}
	}
	provided := account.Provided{Known: rec.Provider.V != nil}
	if p := rec.Provider.V; p != nil {
		v.Provider = &wire.Provider{Origin: p.Origin, User: p.User, Private: p.Private}
		if h, ok := fl.inHand(rec.Name); ok && h.provider != nil {
			v.Provider.Title = h.provider.Title()
			provided.Unpacks = h.provider.Archives("") != nil
		} else if ok && h.providerErr != nil {
			v.Provider.Trouble, _ = fault.Words(h.providerErr)
		}
	}
	if v.Found != nil {
		v.Says = v.Found.Says(provided)
	}
	if v.TLS == account.NoTLS {
		v.Says = append([]string{readable}, v.Says...)
	}
	if h, ok := fl.inHand(rec.Name); ok {
		if h.err != nil {
			v.Trouble, _ = fault.Words(h.err)
		}
		if e, ok := h.Driver.(host.Elsewhere); ok {
			v.SignIn = e.Account().Secrets.Ways()
			v.Fingerprint = e.Fingerprint()
		}
	}
	return v
}

// readable is what going without TLS means.
const readable = "Nothing is encrypted: whoever carries the line, or listens to it, can read the password and all " +
	"files."

// AddHost records an account on another machine, once it was signed in to. Without a
// fingerprint that is accepted the error has code NeedsChoice, and offers the one that the host
// shows.
func (fl *Fleet) AddHost(ctx context.Context, n wire.NewHost) (wire.Host, error) {
	bad := func(format string, args ...any) (wire.Host, error) {
		return wire.Host{}, fault.New(fault.Invalid, "add host", n.Name, format, args...)
	}
	fl.changing.Lock()
	defer fl.changing.Unlock()
	if !serverName.MatchString(n.Name) {
		return bad("a host's name has 1 to 40 of a-z, 0-9 and hyphen")
	}
	if _, err := fl.records.Host(ctx, n.Name); fault.CodeOf(err) != fault.NotFound {
		if err == nil {
			err = fault.New(fault.Exists, "add host", n.Name, "a host of that name is there already").
				With("reshard hosts lists them.")
		}
		return wire.Host{}, err
	}
	a, err := account.Parse(n.Address)
	if err != nil {
		return wire.Host{}, err
	}
	a.Name, a.Sessions, a.BytesASecond, a.Roots = n.Name, n.Sessions, n.BytesASecond, n.Roots
	take(&a.User, n.User)
	take(&a.Folder, n.Folder)
	if a.User == "" {
		return bad("neither the address nor anything else names the user")
	}
	if n.TLS != "" {
		a.TLS = n.TLS
	}
	takeSignIn(&a.Secrets, n.SignIn)
	if err := fits(a); err != nil {
		return wire.Host{}, err
	}
	if len(a.Secrets.Ways()) == 0 {
		return bad("nothing to sign in with is given: a password, a private key or an agent")
	}
	rec := records.Host{Name: n.Name, Kind: kindOf(a)}
	h, err := fl.tried(ctx, rec, a, n.AcceptKey)
	if fault.CodeOf(err) == fault.Unreachable {
		return wire.Host{}, &fault.Error{
			Code: fault.Unreachable, Err: err,
			Next: "Nothing was recorded. Correct what is wrong, and add the host again.",
		}
	}
	if err != nil {
		return wire.Host{}, err
	}
	rec = h.rec
	if rec, err = fl.records.AddHost(ctx, rec); err != nil {
		return wire.Host{}, err
	}
	fl.openHost(ctx, rec)
	return fl.Host(ctx, n.Name)
}

// kindOf is the kind of host that an account is on.
func kindOf(a account.Account) string {
	if a.Protocol == account.FTP {
		return "ftp"
	}
	return "ssh"
}

// fits is Invalid for what the account's protocol does not have.
func fits(a account.Account) error {
	bad := func(what string) error { return fault.New(fault.Invalid, "reach", a.Name, "%s", what) }
	switch {
	case a.Protocol != account.FTP && (a.TLS != "" || a.Roots != ""):
		return bad("TLS and its roots are for FTP; SFTP is encrypted by itself")
	case a.Protocol == account.FTP && (a.Secrets.PrivateKey != "" || a.Secrets.Agent != ""):
		return bad("FTP signs in with a password only")
	}
	return nil
}

// tried signs in to an account with what is to be recorded of it, and gives that.
func (fl *Fleet) tried(ctx context.Context, rec records.Host, a account.Account, accept string) (*openHost, error) {
	kept := a.Secrets
	var err error
	if a.Secrets.Agent, err = fl.agentOf(a); err != nil {
		return nil, err
	}
	d, err := fl.Kinds.Open(ctx, host.Spec{Name: rec.Name, Kind: rec.Kind, Account: a})
	if err != nil {
		return nil, err
	}
	h := &openHost{Driver: d, rec: rec}
	defer h.close() //nolint:errcheck // it was only tried
	e, err := h.elsewhere("add host")
	if err != nil {
		return nil, err
	}
	if a.Key == "" || accept != "" {
		if a.Key, err = accepted(ctx, e, a, accept); err != nil {
			return nil, err
		}
	}
	if err := e.Change(host.Spec{Name: rec.Name, Kind: rec.Kind, Account: a}); err != nil {
		return nil, err
	}
	if _, _, err := d.Root(ctx, "."); err != nil && fault.CodeOf(err) != fault.Invalid {
		if a.Folder != "" && fault.CodeOf(err) == fault.NotFound {
			return nil, fault.New(fault.Invalid, "look at", a.Folder, "the account has no such folder").
				With("Leave the folder out of the address to begin where one arrives after signing in.")
		}
		return nil, err
	}
	h.rec.Sealed, err = fl.seal(rec.Name, kept)
	a.Secrets = account.Secrets{}
	h.rec.Account.V = a
	return h, err
}

// accepted gives the key that the host shows, when a person has accepted just that.
func accepted(ctx context.Context, e host.Elsewhere, a account.Account, accept string) (string, error) {
	shown, err := e.Shown(ctx, a)
	fingerprint := shown.Fingerprint
	switch {
	case err != nil:
		return "", err
	case fingerprint == "":
		return shown.Key, nil // it is vouched for, or none is wanted
	case accept == "":
		doubt := ""
		if shown.Doubt != nil {
			doubt = ", and no roots vouch for it: " + shown.Doubt.Error()
		}
		f := fault.New(fault.NeedsChoice, "sign in to", a.Name,
			"the host at %s shows the %s %s, which nobody has accepted yet%s",
			a.Address(), shownBy(a), fingerprint, doubt).
			With("Compare it with the fingerprint that the host's owner gives. When it is the same, accept it: " +
				"--accept-key " +
				fingerprint + ".")
		f.Options = []string{fingerprint}
		return "", f
	case strings.TrimSpace(accept) != fingerprint:
		return "", fault.New(fault.Refused, "sign in to", a.Name,
			"the host at %s shows the %s %s, and you have accepted %s",
			a.Address(), shownBy(a), fingerprint, strings.TrimSpace(accept)).
			With("Ask the host's owner which of them is right; nothing was sent to it.")
	}
	return shown.Key, nil
}

// shownBy is what a host is known by.
func shownBy(a account.Account) string {
	if a.Protocol == account.FTP {
		return "certificate"
	}
	return "key"
}

func take(to *string, value string) {
	if value != "" {
		*to = value
	}
}

func takeSignIn(s *account.Secrets, with wire.SignIn) {
	for _, one := range []struct {
		to   *string
		from *string
	}{
		{&s.Password, with.Password}, {&s.PrivateKey, with.PrivateKey}, {&s.Passphrase, with.Passphrase},
	} {
		if one.from != nil {
			*one.to = *one.from
		}
	}
	if with.Agent != nil {
		s.Agent = map[bool]string{true: account.OwnAgent}[*with.Agent]
	}
}

// agentOf gives the socket of the agent that an account is signed in with; "" for none. Code Refused: it is none that
// the service may use. Any other socket would have the service speak to whatever listens there.
func (fl *Fleet) agentOf(a account.Account) (string, error) {
	switch {
	case a.Secrets.Agent == "":
		return "", nil
	case fl.SSHAgent == "":
		return "", fault.New(fault.Refused, "sign in to", a.Name, "the service uses no SSH agent").
			With("Start it with reshard serve --ssh-agent where SSH_AUTH_SOCK is set. Or give a key or a password: " +
				"reshard hosts change " + a.Name + " --key FILE.")
	case a.Secrets.Agent != account.OwnAgent && a.Secrets.Agent != fl.SSHAgent:
		return "", fault.New(fault.Refused, "sign in to", a.Name,
			"it was signed in to with another socket than that of the service's SSH agent").
			With("Use the service's agent: reshard hosts change " + a.Name + " --agent. Or give a key or a password.")
	}
	return fl.SSHAgent, nil
}

// ChangeHost changes how a host is reached and signed in to. What is under way on it meets a
// line that broke, and goes on with the new one.
func (fl *Fleet) ChangeHost(ctx context.Context, name string, c wire.HostChange) (wire.Host, error) {
	fl.changing.Lock()
	defer fl.changing.Unlock()
	rec, err := fl.records.Host(ctx, name)
	if err != nil {
		return wire.Host{}, err
	}
	h, ok := fl.inHand(name)
	if !ok || rec.Kind == "local" {
		return wire.Host{}, fault.New(fault.Unsupported, "change host", name, "it is the service's own machine")
	}
	a := rec.Account.V
	a.Name = name
	if a.Secrets, err = fl.unseal(rec); err != nil {
		a.Secrets = account.Secrets{} // they cannot be opened any more, and are given anew
	}
	before := a
	if err := changed(&a, c); err != nil {
		return wire.Host{}, err
	}
	if e, ok := h.Driver.(host.Elsewhere); ok {
		another := c.AcceptKey != "" && c.AcceptKey != e.Fingerprint()
		if err := notElsewhere(before, a, another, c.SignIn); err != nil {
			return wire.Host{}, err
		}
	}
	forgets := len(a.Secrets.Ways()) == 0
	if forgets && len(before.Secrets.Ways()) == 0 {
		return wire.Host{}, fault.New(fault.Invalid, "change host", name, "nothing to sign in with is kept or given")
	}
	if forgets { // nothing can be tried without
		if rec.Sealed, err = fl.seal(name, a.Secrets); err != nil { // the provider's stays
			return wire.Host{}, err
		}
		a.Secrets = account.Secrets{}
		rec.Account.V = a
	} else {
		tried, err := fl.tried(ctx, rec, a, c.AcceptKey)
		if err != nil {
			return wire.Host{}, err
		}
		rec = tried.rec
	}
	if err := fl.records.ChangeHost(ctx, rec); err != nil {
		return wire.Host{}, err
	}
	return fl.reopen(ctx, h, rec)
}

// notElsewhere refuses to send a password that is kept to another machine than it was given for, or in a way that
// others can read. A private key is not revealed by signing in, and stays. another: the host is to be known by another
// key.
func notElsewhere(before, after account.Account, another bool, given wire.SignIn) error {
	if before.Secrets.Password == "" || given.Password != nil {
		return nil
	}
	what := ""
	switch {
	case before.Address() != after.Address():
		what = "address"
	case before.TLS != after.TLS:
		what = "encryption"
	case before.Roots != after.Roots:
		what = "certificates"
	case another:
		what = "key or certificate"
	default:
		return nil
	}
	return fault.New(fault.NeedsChoice, "change host", after.Name,
		"its password was given for %s, and the %s changes", before.Address(), what).
		With("Give the password again, if it is meant for the new one: reshard hosts change " + after.Name +
			" … --password.")
}

// changed takes a change over into an account.
func changed(a *account.Account, c wire.HostChange) error {
	if c.Address != nil {
		to, err := account.Parse(*c.Address)
		if err != nil {
			return err
		}
		if kindOf(to) != kindOf(*a) {
			return fault.New(fault.Invalid, "change host", a.Name,
				"it is reached by another protocol; that is another host").
				With("Add it under another name, and its servers on it.")
		}
		if to.TLS != "" && to.TLS != a.TLS {
			a.TLS, a.Key = to.TLS, ""
		}
		a.Host, a.Port = to.Host, to.Port
		take(&a.User, to.User)
		take(&a.Folder, to.Folder)
	}
	if c.TLS != nil && *c.TLS != a.TLS {
		a.TLS, a.Key = *c.TLS, "" // it is known by something else, or by nothing
	}
	if c.Roots != nil {
		a.Roots, a.Key = *c.Roots, ""
	}
	if c.User != nil {
		take(&a.User, *c.User)
	}
	if c.Folder != nil {
		a.Folder = *c.Folder
	}
	if c.Sessions != nil {
		a.Sessions = *c.Sessions
	}
	if c.BytesASecond != nil {
		a.BytesASecond = *c.BytesASecond
	}
	takeSignIn(&a.Secrets, c.SignIn)
	return fits(*a)
}

// reopen has a host in hand be what is on record now.
func (fl *Fleet) reopen(ctx context.Context, h *openHost, rec records.Host) (wire.Host, error) {
	e, ok := h.Driver.(host.Elsewhere)
	if !ok {
		fl.openHost(ctx, rec)
		return fl.Host(ctx, rec.Name)
	}
	spec, err := fl.specOf(rec)
	if err == nil {
		err = e.Change(spec)
	}
	if err != nil {
		return wire.Host{}, err
	}
	fl.mu.Lock()
	next := &openHost{Driver: h.Driver, rec: rec}
	next.hire(spec.Account.Secrets)
	fl.hosts[rec.Name] = next
	for _, sl := range fl.live {
		sl.away.Store(nil) // they are asked at once
	}
	fl.mu.Unlock()
	fl.renew(rec.Name)
	return fl.Host(ctx, rec.Name)
}

// renew opens the servers of a host anew that nothing works on, and has them looked at.
func (fl *Fleet) renew(name string) {
	for _, l := range fl.InHand() {
		if l.host.rec.Name != name {
			continue
		}
		if release, err := l.Claim("reach"); err == nil {
			if err := fl.LetGo(l); err != nil {
				fl.log.Warn("a server's folder did not close", "server", l.Name, "error", err)
			}
			release()
		}
		fl.Poke(l.Name)
	}
}

// SetProvider records a provider's own interface of a host; without a description what is known of it is
// forgotten. Nothing is asked there yet.
func (fl *Fleet) SetProvider(ctx context.Context, name string, n wire.NewProvider) (wire.Host, error) {
	fl.changing.Lock()
	defer fl.changing.Unlock()
	rec, err := fl.records.Host(ctx, name)
	if err != nil {
		return wire.Host{}, err
	}
	h, ok := fl.inHand(name)
	if !ok || rec.Kind == "local" {
		return wire.Host{}, fault.New(fault.Unsupported, "change host", name, "it is the service's own machine")
	}
	secrets, err := fl.unseal(rec)
	if err != nil {
		return wire.Host{}, err
	}
	if n.Secret != nil {
		secrets.Provider = *n.Secret
	}
	switch {
	case n.Description == "" && n.Secret != nil && rec.Provider.V != nil: // only that is changed
	case n.Description != "":
		if was := rec.Provider.V; was != nil && was.Origin != n.Origin && secrets.Provider != "" && n.Secret == nil {
			return wire.Host{}, fault.New(fault.NeedsChoice, "change provider of", name,
				"its token was given for %s, and the address changes", was.Origin).
				With("Give the token again, if it is meant for the new address.")
		}
		rec.Provider.V = &records.Provider{
			Description: n.Description, Origin: n.Origin, User: n.User, Private: n.Private,
		}
		p, err := openProvider(host.ProviderSpec{
			Name: name, Description: n.Description, Origin: n.Origin, User: n.User, Private: n.Private,
		})
		if err != nil {
			return wire.Host{}, err
		}
		_ = p.Close() // it was only read
	default:
		rec.Provider.V, secrets.Provider = nil, ""
	}
	if rec.Sealed, err = fl.seal(name, secrets); err != nil {
		return wire.Host{}, err
	}
	if err := fl.records.SetProvider(ctx, rec); err != nil {
		return wire.Host{}, err
	}
	return fl.reopen(ctx, h, rec)
}

// TryProvider looks whether a server can be seen by its provider's own interface, and changes nothing.
func (fl *Fleet) TryProvider(ctx context.Context, name, machine string) ([]wire.Tried, error) {
	h, err := fl.host(name)
	if err != nil {
		return nil, err
	}
	if h.rec.Provider.V == nil {
		return nil, byProvider(h, "try the provider of", wire.NewServer{Name: name})
	}
	if h.provider == nil {
		return nil, h.providerErr
	}
	return h.provider.Try(ctx, machine), nil
}

// CheckHost finds out what can be done on a host, and keeps it. say is told what it does.
func (fl *Fleet) CheckHost(ctx context.Context, name string, say func(string)) (wire.Host, error) {
	h, err := fl.host(name)
	if err != nil {
		return wire.Host{}, err
	}
	c, ok := h.Driver.(host.Checker)
	if !ok {
		return wire.Host{}, fault.New(fault.Unsupported, "check host", name,
			"it is the service's own machine; what can be done there is known")
	}
	roots, err := fl.rootsOn(ctx, name)
	if err != nil {
		return wire.Host{}, err
	}
	found, err := c.Check(ctx, roots, say)
	if err != nil {
		return wire.Host{}, err
	}
	fl.changing.Lock()
	defer fl.changing.Unlock()
	rec, err := fl.records.Host(ctx, name)
	if err != nil {
		return wire.Host{}, err
	}
	if err := fl.records.FoundAt(ctx, rec.ID, found); err != nil {
		return wire.Host{}, err
	}
	rec.Found.V = &found
	return fl.reopen(ctx, h, rec)
}

// rootsOn gives the folders of the servers on a host, and those of their worlds: an account may
// write in these only.
func (fl *Fleet) rootsOn(ctx context.Context, name string) (out []string, err error) {
	list, err := fl.allListed(ctx)
	for _, rec := range list {
		if rec.Host != name {
			continue
		}
		out = append(out, rec.Root)
		worlds := ""
		if s := fl.book.sightOf(rec.Name); s != nil && s.heads != nil {
			worlds = s.heads.State.WorldsFolder
		} else if p, err := fl.games.Profile(rec.Game); err == nil {
			worlds = p.Server.Worlds
		}
		if worlds != "" {
			out = append(out, path.Join(rec.Root, worlds))
		}
	}
	return out, err
}

// checkDoubted checks a host again when something has contradicted what was found there. The
// line is cut for that, so that it is done when nothing is at work on the server that tells.
func (fl *Fleet) checkDoubted(ctx context.Context, name string) {
	h, ok := fl.inHand(name)
	if !ok {
		return
	}
	if c, ok := h.Driver.(host.Checker); !ok || !c.Doubted() {
		return
	}
	fl.running.Go(func() {
		if _, err := fl.CheckHost(ctx, name, func(string) {}); err != nil {
			fl.log.Warn("a host was not checked again", "host", name, "error", err)
		}
	})
}

// RemoveHost forgets a host on which no servers are, with what it was signed in with.
func (fl *Fleet) RemoveHost(ctx context.Context, name string) error {
	fl.changing.Lock()
	defer fl.changing.Unlock()
	rec, err := fl.records.Host(ctx, name)
	if err != nil {
		return err
	}
	if rec.Kind == "local" {
		return fault.New(fault.Invalid, "remove host", name, "the service's own machine stays")
	}
	if err := fl.records.RemoveHost(ctx, rec); err != nil {
		return err
	}
	fl.mu.Lock()
	h := fl.hosts[name]
	delete(fl.hosts, name)
	fl.mu.Unlock()
	if h != nil {
		return h.close()
	}
	return nil
}
