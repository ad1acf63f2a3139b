package service

import (
	"context"
	"maps"

	"reshard/internal/core/fault"
	"reshard/internal/host"
	"reshard/internal/host/local"
	"reshard/internal/records"
)

// kinds are the hosts that this build knows: a kind is a package and a line here.
var kinds = host.Kinds{local.Kind: local.Open}

// Kinds gives the kinds of hosts that a service knows when it is told of no others.
func Kinds() host.Kinds { return maps.Clone(kinds) }

// openHosts opens every host on record. A host that cannot be opened is left out: its
// servers say why.
func (s *Service) openHosts(ctx context.Context) error {
	list, err := s.records.Hosts(ctx)
	if err != nil {
		return err
	}
	for _, rec := range list {
		h := &openHost{rec: rec}
		s.hosts[rec.Name] = h
		if rec.Kind == local.Kind {
			if h.err = s.settle(ctx, rec); h.err != nil {
				return h.err
			}
		}
		h.Driver, h.err = s.config.Kinds.Open(ctx,
			host.Spec{Name: rec.Name, Kind: rec.Kind, Data: s.config.Data, Identity: s.identity})
	}
	return nil
}

// openHost is a host in hand, or why it is not.
type openHost struct {
	host.Driver
	rec records.Host
	err error
}

// settle makes sure that the servers on record for the service's own machine are here:
// the records belong to one data folder, which may be moved and then comes along with
// its identity. Records that were brought to another machine without it would find no
// process of theirs, and take running servers for stopped.
func (s *Service) settle(ctx context.Context, rec records.Host) error {
	machine := local.Identity()
	switch {
	case rec.Data == s.identity && rec.Machine == machine:
		return nil
	case rec.Data != "" && rec.Data != s.identity && !s.config.MoveHere:
		return fault.New(fault.WrongState, "open", "database",
			"its records belong to another data folder than %s: what runs there would not be seen here", s.config.Data).
			With("Give the service the data folder that these records were made with. When that is lost, or all " +
				"servers of it are stopped for good, begin with this one: reshard serve --move-here.")
	}
	return s.records.SettleHost(ctx, rec.ID, machine, s.identity)
}

func (s *Service) host(name string) (*openHost, error) {
	h, ok := s.hosts[name]
	if !ok {
		return nil, fault.New(fault.NotFound, "find", "host", "there is no host %q", name)
	}
	return h, fault.Wrap(fault.Unreachable, "open host", name, h.err)
}
