package fleet

import (
	"context"
	"maps"

	"reshard/internal/core/fault"
	"reshard/internal/host"
	"reshard/internal/host/ftp"
	"reshard/internal/host/local"
	"reshard/internal/host/provider"
	"reshard/internal/host/ssh"
	"reshard/internal/records"
)

// kinds are the hosts that this build knows: a kind is a package and a line here.
var kinds = host.Kinds{local.Kind: local.Open, ssh.Kind: ssh.Open, ftp.Kind: ftp.Open}

// openProvider takes a provider's own interface in hand.
var openProvider = provider.Open

// Kinds gives the kinds of hosts that a service knows when it is told of no others.
func Kinds() host.Kinds { return maps.Clone(kinds) }

// Open opens every host on record. A host that cannot be opened is left out: its
// servers say why.
func (fl *Fleet) Open(ctx context.Context) error {
	list, err := fl.records.Hosts(ctx)
	if err != nil {
		return err
	}
	for _, rec := range list {
		if rec.Kind == local.Kind {
			if err := fl.settle(ctx, rec); err != nil {
				return err
			}
		}
		fl.openHost(ctx, rec)
	}
	return nil
}

// settle makes sure that the servers on record for the service's own machine are here:
// the records belong to one data folder, which may be moved and then comes along with
// its identity. Records that were brought to another machine without it would find no
// process of theirs, and take running servers for stopped.
func (fl *Fleet) settle(ctx context.Context, rec records.Host) error {
	machine := local.Identity()
	switch {
	case rec.Data == fl.Identity && rec.Machine == machine:
		return nil
	case rec.Data != "" && rec.Data != fl.Identity && !fl.MoveHere:
		return fault.New(fault.WrongState, "open", "database",
			"its records belong to another data folder than %s: what runs there would not be seen here", fl.Data).
			With("Give the service the data folder that these records were made with. When that is lost, or all " +
				"servers of it are stopped for good, begin with this one: reshard serve --move-here.")
	}
	return fl.records.SettleHost(ctx, rec.ID, machine, fl.Identity)
}
