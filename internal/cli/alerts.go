package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/wire"
)

func (a *app) alertsCommand() *cli.Command {
	return &cli.Command{
		Name: "alerts", Usage: "list what needs a person, and say who is told of it",
		Description: `Examples:
  reshard alerts
  reshard alerts tell club --webhook https://hooks.example/reshard
  reshard alerts tell ada --mail ada@mill.example --server mail.example:465 --from reshard@mill.example --user reshard
  reshard alerts targets`,
		Action: listing(a, func(ctx context.Context, api *client.Client, _ *cli.Command) ([]wire.Alert, error) {
			return api.Alerts(ctx)
		}, func(list []wire.Alert) {
			if len(list) == 0 {
				a.print("Nothing needs you.\n")
			}
			a.printAlerts(list)
		}),
		Commands: []*cli.Command{
			{
				Name: "targets", Usage: "list who is told", Description: "Examples:\n  reshard alerts targets",
				Action: func(ctx context.Context, c *cli.Command) error {
					_, api, err := a.ready(c)
					if err != nil {
						return err
					}
					list, err := api.NoticeTargets(ctx)
					if err != nil {
						return err
					}
					return a.show(list, func() { a.listTargets(list) })
				},
			},
			{
				Name: "tell", Usage: "tell somebody by webhook or mail: once, and again when it is well",
				ArgsUsage: "NAME",
				Description: `It is told at once that it was added; what cannot be told is not added. A webhook's secret
signs what is posted (RFC 9421, hmac-sha256); a mail account's is its password. It is asked for.

Examples:
  reshard alerts tell club --webhook https://hooks.example/reshard
  reshard alerts tell ada --mail ada@mill.example --server mail.example:465 --from reshard@mill.example --user reshard`,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "webhook", Usage: "the `ADDRESS` that notices are posted to"},
					&cli.StringSliceFlag{Name: "mail", Usage: "the mail `ADDRESS` of somebody; may be repeated"},
					&cli.StringFlag{Name: "server", Usage: "the mail `SERVER` that takes them, as host:port"},
					&cli.StringFlag{
						Name:  "secure",
						Usage: "how the way there is encrypted: `tls`, starttls or none",
						Value: "tls",
					},
					&cli.StringFlag{Name: "from", Usage: "the mail `ADDRESS` that they are from"},
					&cli.StringFlag{Name: "user", Usage: "the `ACCOUNT` at the mail server; left out: none"},
					&cli.BoolFlag{
						Name:  "private",
						Usage: "its address may be one of a private network or of the service's machine",
					},
					passwordFlag(),
				},
				Action: a.addTarget,
			},
			a.onTarget("try", "tell somebody something now, to see whether it arrives",
				"%s has been told: look whether it arrived.\n",
				func(ctx context.Context, api *client.Client, name string) error {
					_, err := api.TryNoticeTarget(ctx, name)
					return err
				}),
			a.onTarget("forget", "tell somebody nothing any more", "%s is told nothing any more.\n",
				func(ctx context.Context, api *client.Client, name string) error {
					return api.RemoveNoticeTarget(ctx, name)
				}),
		},
	}
}

func (a *app) onTarget(verb, use, said string, do func(context.Context, *client.Client, string) error) *cli.Command {
	return &cli.Command{
		Name: verb, Usage: use, ArgsUsage: "NAME", Description: "Examples:\n  reshard alerts " + verb + " club",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "NAME")
			if err == nil {
				err = do(ctx, api, names[0])
			}
			if err != nil {
				return err
			}
			return a.show(struct{}{}, func() { a.print(said, names[0]) })
		},
	}
}

func (a *app) addTarget(ctx context.Context, c *cli.Command) error {
	names, api, err := a.ready(c, "NAME")
	if err != nil {
		return err
	}
	in := wire.NewNoticeTarget{
		Name: names[0], Kind: "webhook", URL: c.String("webhook"), Private: c.Bool("private"),
	}
	prompt := "Secret that notices are signed with: "
	switch mails := c.StringSlice("mail"); {
	case (in.URL == "") == (len(mails) == 0):
		return usage("say how: --webhook ADDRESS, or --mail ADDRESS with --server and --from")
	case len(mails) > 0:
		in.Kind, in.To, in.Server, in.Secure = "mail", mails, c.String("server"), c.String("secure")
		in.From, in.User = c.String("from"), c.String("user")
		prompt = "Password of " + in.User + ": "
	}
	if in.Kind == "webhook" || in.User != "" {
		if in.Secret, err = a.password(c, prompt); err != nil {
			return err
		}
	}
	t, err := api.AddNoticeTarget(ctx, in)
	if err != nil {
		return err
	}
	return a.show(t, func() { a.print("%s is told from now on, and was told so just now.\n", t.Name) })
}

func (a *app) listTargets(list []wire.NoticeTarget) {
	if len(list) == 0 {
		a.print("Nobody is told: what needs you is shown here and in the console only. Next: reshard alerts tell " +
			"NAME --webhook ADDRESS\n")
		return
	}
	var rows [][]string
	for _, t := range list {
		where, told, state := t.URL, "never", "✓"
		if t.Kind == "mail" {
			where = strings.Join(t.To, ", ") + " by " + t.Server
		}
		if t.Told != nil {
			told = ago(*t.Told)
		}
		if t.Trouble != "" {
			state = "! " + t.Trouble
		}
		rows = append(rows, []string{t.Name, t.Kind, where, told, state})
	}
	a.table([]string{"name", "kind", "where", "told", "state"}, rows, 0, 0, 40, 0, 40)
}
