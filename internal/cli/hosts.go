package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/account"
	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

func (a *app) hostsCommand() *cli.Command {
	return &cli.Command{
		Name: "hosts", Usage: "list the machines and accounts where servers live",
		Description: `Examples:
  reshard hosts
  reshard hosts add moor sftp://ada@moor.example:2022/servers --key ~/.ssh/id_ed25519
  reshard hosts check moor
  reshard hosts show moor
  reshard hosts change moor --password
  reshard hosts remove moor`,
		Action: func(ctx context.Context, c *cli.Command) error {
			_, api, err := a.ready(c)
			if err != nil {
				return err
			}
			list, err := api.Hosts(ctx)
			if err != nil {
				return err
			}
			return a.show(list, func() { a.listHosts(list) })
		},
		Commands: []*cli.Command{
			a.hostsShowCommand(), a.hostsAddCommand(), a.hostsCheckCommand(), a.hostsChangeCommand(),
			a.hostsProviderCommand(), a.hostsTryCommand(),
			a.remover("remove", "HOST", "forget a host on which no servers are, with its password or key",
				"Examples:\n  reshard hosts remove moor", (*client.Client).RemoveHost),
		},
	}
}

func (a *app) listHosts(list []wire.Host) {
	var rows [][]string
	for _, h := range list {
		where, with, checked := "this service's own machine", "", ""
		if h.Kind != "local" {
			where, with, checked = hostAddress(h), strings.Join(h.SignIn, ", "), "not checked"
			if h.Found != nil {
				checked = when(h.Found.At)
			}
		}
		rows = append(rows, []string{h.Name, where, with, fmt.Sprint(h.Servers), checked, h.Trouble})
	}
	a.table([]string{"host", "where", "signed in with", "servers", "checked", ""}, rows, 0, 0, 0, 0, 0, 40)
	if len(list) == 1 {
		a.print("\nA server elsewhere? Next: reshard hosts add --help\n")
	}
}

func hostAddress(h wire.Host) string {
	at := account.Account{User: h.User, Host: h.Address, Port: h.Port, TLS: h.TLS}
	scheme := ""
	if h.Kind == "ftp" {
		at.Protocol, scheme = account.FTP, "ftp://"
	}
	return scheme + strings.TrimSuffix(at.String(), ":22") + h.Folder
}

func (a *app) hostsShowCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "show where a host is and what can be done there", ArgsUsage: "HOST",
		Description: "Examples:\n  reshard hosts show moor",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "HOST")
			if err != nil {
				return err
			}
			h, err := api.Host(ctx, names[0])
			if err != nil {
				return err
			}
			return a.show(h, func() { a.describeHost(h) })
		},
	}
}

// describeHost shows a host, what was found there, and what that means.
func (a *app) describeHost(h wire.Host) {
	a.print("%s\n\n", h.Name)
	line := func(label, value string) {
		if value != "" {
			a.print("  %-14s %s\n", label, value)
		}
	}
	if h.Kind == "local" {
		line("where", "this service's own machine")
		line("servers", fmt.Sprint(h.Servers))
		return
	}
	line("where", hostAddress(h))
	switch {
	case h.Kind != "ftp":
		line("key", h.Fingerprint)
	case h.TLS == account.NoTLS:
		line("encrypted", "no")
	case h.Fingerprint == "":
		line("encrypted", "TLS, "+string(h.TLS)+"; its certificate is vouched for")
	default:
		line("encrypted", "TLS, "+string(h.TLS))
		line("certificate", h.Fingerprint)
	}
	line("signed in with", strings.Join(h.SignIn, ", "))
	if p := h.Provider; p != nil {
		line("provider", orText(p.Title, "not readable")+" at "+p.Origin)
		if p.Trouble != "" {
			a.wrapped("  ✕ ", p.Trouble)
		}
	}
	line("servers", fmt.Sprint(h.Servers))
	if h.BytesASecond > 0 {
		line("at most", humanize.IBytes(uint64(h.BytesASecond))+" a second")
	}
	if h.Trouble != "" {
		a.print("\n")
		a.wrapped("  ✕ ", h.Trouble)
		return
	}
	if h.Found == nil {
		a.print("\nWhat can be done there is not known yet. Next: reshard hosts check %s\n", h.Name)
		return
	}
	a.describeFindings(*h.Found)
	a.print("\nWhat that means for changeovers\n")
	for _, s := range h.Says {
		a.wrapped("  ", s)
	}
}

func (a *app) describeFindings(f account.Findings) {
	a.print("\nFound %s\n", when(f.At))
	line := func(label, value string) { a.print("  %-28s %s\n", label, value) }
	yes := func(label string, has bool) {
		line(label, map[bool]string{true: "✓ yes", false: "✕ no"}[has])
	}
	speed := func(n int64) string {
		if n == 0 {
			return "not measured"
		}
		return humanize.IBytes(uint64(n)) + " a second"
	}
	line("round trip", f.RoundTrip.Round(100*time.Microsecond).String())
	line("sending, fetching", speed(f.Up)+", "+speed(f.Down))
	line("connections at once", fmt.Sprintf("at least %d", f.Connections))
	if f.Set.AtOnce != f.Connections {
		line("files at once", fmt.Sprint(f.Set.AtOnce))
	}
	line("arrives in", f.Home)
	yes("can be written", !f.ReadOnly)
	if f.ReadOnly {
		return
	}
	line("tried in", f.Tried)
	yes("a file replaces another", f.Set.AtomicReplace)
	yes("a full folder is renamed", f.Set.RenameFolders)
	yes("a taken name is left alone", f.Set.Exclusive)
	yes("writes survive a power cut", f.Set.Sync)
	yes("capitals tell names apart", f.Set.ExactCase)
	free := "not told"
	if f.Free >= 0 {
		free = humanize.IBytes(uint64(f.Free))
	}
	line("free", free)
	if f.Set.TimePrecision < capability.NoTimes {
		line("times are kept to", f.Set.TimePrecision.String())
	}
	if f.Set.Account != "" {
		line("files there belong to", f.Set.Account)
	}
	line("clock ahead by", f.Clock.String())
	yes("commands", f.Set.Commands)
	if f.Set.Commands {
		line("programs", strings.Join(f.Programs, ", "))
		yes("hashes made there", f.Set.Hash)
		yes("streams unpacked there", f.Set.Unpack)
		yes("databases taken there", f.Set.Databases)
	}
}

// signInFlags are what a host is signed in with.
func signInFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "password", Usage: "ask for a password; with --password-stdin it is read from there"},
		&cli.BoolFlag{
			Name:  "password-stdin",
			Usage: "read the password, or the passphrase of the key, from standard input",
		},
		&cli.StringFlag{Name: "key", Usage: "private key `FILE`, which is sent to the service and kept encrypted"},
		&cli.BoolFlag{Name: "passphrase", Usage: "ask for the passphrase of the key"},
		&cli.BoolFlag{Name: "agent", Usage: "sign in with the SSH agent that the service was started with"},
		&cli.StringFlag{
			Name:  "accept-key",
			Usage: "`FINGERPRINT` of the host's key or certificate, which you have compared",
		},
		&cli.StringFlag{Name: "tls", Usage: "`HOW` FTP is encrypted: explicit, implicit or none"},
		&cli.StringFlag{Name: "roots", Usage: "`FILE` with certificates (PEM) that vouch for the host's"},
		&cli.StringFlag{Name: "user", Usage: "`USER`, when the address names none"},
		&cli.StringFlag{Name: "folder", Usage: "`FOLDER` where the account's servers are"},
		&cli.IntFlag{Name: "sessions", Usage: "at most `N` sessions on a connection; over FTP, connections"},
		&cli.StringFlag{Name: "rate", Usage: "at most so many `BYTES` a second, such as 2MB; 0 for no limit"},
	}
}

// signIn reads what a host is signed in with; ask has a password asked for when nothing is
// given.
func (a *app) signIn(c *cli.Command, ask bool) (s wire.SignIn, err error) {
	if file := c.String("key"); file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return s, usage("the key cannot be read: %v", err)
		}
		text := string(data)
		s.PrivateKey = &text
		if c.Bool("passphrase") {
			pass, err := a.password(c, "Passphrase of the key: ")
			if err != nil {
				return s, err
			}
			s.Passphrase = &pass
		}
	}
	if agent := c.Bool("agent"); agent {
		s.Agent = &agent
	}
	alone := c.Bool("password-stdin") && !c.Bool("passphrase")
	if c.Bool("password") || alone || (ask && s.PrivateKey == nil && s.Agent == nil) {
		pass, err := a.password(c, "Password at the host: ")
		if err != nil {
			return s, err
		}
		s.Password = &pass
	}
	return s, nil
}

// tlsOf reads how FTP is encrypted, and the roots that vouch for the host's certificate; nil for what
// is not said.
func tlsOf(c *cli.Command) (how *account.TLS, roots *string, err error) {
	if c.IsSet("tls") {
		said := account.TLS(c.String("tls"))
		switch said {
		case account.Explicit, account.Implicit, account.NoTLS:
			how = &said
		default:
			return nil, nil, usage("--tls wants explicit, implicit or none, not %q", said)
		}
	}
	if file := c.String("roots"); file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, nil, usage("the roots cannot be read: %v", err)
		}
		text := string(data)
		roots = &text
	}
	return how, roots, nil
}

func rateOf(c *cli.Command) (*int64, error) {
	text := c.String("rate")
	if text == "" {
		return nil, nil
	}
	n, err := humanize.ParseBytes(text)
	if err != nil || n > 1<<50 {
		return nil, usage("--rate wants bytes a second, such as 2MB, not %q", text)
	}
	rate := int64(n)
	return &rate, nil
}

func (a *app) hostsAddCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "add an account on another machine", ArgsUsage: "NAME ADDRESS",
		Description: `The address is what the provider shows. The host's key is shown to you before anything
is sent, and kept once you have accepted it. Passwords and keys go to the service,
which keeps them encrypted; they are never shown again.

FTP is encrypted by TLS: ftp:// begins it on the connection, ftps:// speaks it from the
first byte. A certificate that the service's own roots, or those of --roots, do not vouch
for is shown to you like a key. Without TLS (--tls none) everybody on the way can read
the password.

Examples:
  reshard hosts add moor sftp://ada@moor.example:2022/servers --key ~/.ssh/id_ed25519
  reshard hosts add moor moor.example --user ada
  reshard hosts add moor ada@moor.example --password-stdin --accept-key SHA256:… < password
  reshard hosts add quay ftp://bram@quay.example
  reshard hosts add quay ftps://bram@quay.example --roots roots.pem`,
		Flags: signInFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "NAME", "ADDRESS")
			if err != nil {
				return err
			}
			n := wire.NewHost{
				Name: names[0], Address: names[1], User: c.String("user"), Folder: c.String("folder"),
				AcceptKey: c.String("accept-key"), Sessions: c.Int("sessions"),
			}
			at, err := account.Parse(n.Address)
			if err != nil {
				return err
			}
			if at.User == "" && n.User == "" {
				if n.User, err = a.ask("User at the host: ", "name the user: --user NAME"); err != nil {
					return err
				}
			}
			rate, err := rateOf(c)
			if err != nil {
				return err
			}
			if rate != nil {
				n.BytesASecond = *rate
			}
			how, roots, err := tlsOf(c)
			if err != nil {
				return err
			}
			if how != nil {
				n.TLS = *how
			}
			if roots != nil {
				n.Roots = *roots
			}
			if n.SignIn, err = a.signIn(c, true); err != nil {
				return err
			}
			h, err := withKey(a, n.AcceptKey, func(accept string) (wire.Host, error) {
				n.AcceptKey = accept
				return api.AddHost(ctx, n)
			})
			if err != nil {
				return err
			}
			return a.checkHost(ctx, api, h.Name)
		},
	}
}

// withKey does what needs the host's key to be accepted, and asks a person who is there.
func withKey(a *app, accept string, do func(accept string) (wire.Host, error)) (wire.Host, error) {
	h, err := do(accept)
	shown := fault.Options(err)
	if fault.CodeOf(err) != fault.NeedsChoice || len(shown) != 1 || accept != "" {
		return h, err
	}
	thing := "key"
	if strings.Contains(err.Error(), "certificate") {
		thing = "certificate"
	}
	a.wrappedTo(a.Err, "", "The host shows the "+thing+" "+shown[0]+
		". Compare it with the fingerprint that the host's owner gives; if it is another, do not accept it.")
	sure, cerr := a.confirm("Is it the same?")
	if cerr != nil || !sure {
		return h, err
	}
	return do(shown[0])
}

// checkHost finds out what can be done on a host and shows it.
func (a *app) checkHost(ctx context.Context, api *client.Client, name string) error {
	a.status("checking what can be done on %s", name)
	h, err := api.CheckHost(ctx, name)
	a.endProgress()
	if err != nil {
		return err
	}
	return a.show(h, func() {
		a.describeHost(h)
		if h.Servers == 0 {
			a.print("\nNext: reshard servers add NAME --host %s --game GAME --root FOLDER -- COMMAND\n", h.Name)
		}
	})
}

func (a *app) hostsCheckCommand() *cli.Command {
	return &cli.Command{
		Name: "check", Usage: "find out what can be done on a host", ArgsUsage: "HOST",
		Description: `It signs in anew, measures the line and tries what can be done with files and commands, in a
folder of its own that it removes again. What it finds is kept: sheets and plans go by it.

Examples:
  reshard hosts check moor`,
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "HOST")
			if err != nil {
				return err
			}
			return a.checkHost(ctx, api, names[0])
		},
	}
}

func (a *app) hostsChangeCommand() *cli.Command {
	return &cli.Command{
		Name: "change", Usage: "change how a host is reached or signed in to", ArgsUsage: "HOST",
		Description: `What is changed is tried before it is kept. What is under way on the host goes on with it.

Examples:
  reshard hosts change moor --password
  reshard hosts change moor --address moor.example:2022
  reshard hosts change moor --key ~/.ssh/id_ed25519 --passphrase
  reshard hosts change moor --accept-key SHA256:…
  reshard hosts change moor --rate 2MB
  reshard hosts change moor --forget`,
		Flags: append(signInFlags(),
			&cli.StringFlag{Name: "address", Usage: "where it is now, an `ADDRESS` as with add"},
			&cli.BoolFlag{Name: "forget", Usage: "forget the password or key that is kept"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "HOST")
			if err != nil {
				return err
			}
			change := wire.HostChange{AcceptKey: c.String("accept-key")}
			for flag, to := range map[string]**string{
				"address": &change.Address, "user": &change.User, "folder": &change.Folder,
			} {
				if c.IsSet(flag) {
					text := c.String(flag)
					*to = &text
				}
			}
			if c.IsSet("sessions") {
				n := c.Int("sessions")
				change.Sessions = &n
			}
			if change.BytesASecond, err = rateOf(c); err != nil {
				return err
			}
			if change.TLS, change.Roots, err = tlsOf(c); err != nil {
				return err
			}
			if change.SignIn, err = a.signIn(c, false); err != nil {
				return err
			}
			if c.Bool("forget") {
				none, off := "", false
				change.SignIn = wire.SignIn{Password: &none, PrivateKey: &none, Passphrase: &none, Agent: &off}
			}
			h, err := withKey(a, change.AcceptKey, func(accept string) (wire.Host, error) {
				change.AcceptKey = accept
				return api.ChangeHost(ctx, names[0], change)
			})
			if err != nil {
				return err
			}
			return a.show(h, func() { a.describeHost(h) })
		},
	}
}
