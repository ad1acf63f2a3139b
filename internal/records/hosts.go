package records

import (
	"context"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
)

// Host is where game servers live.
type Host struct {
	ID   int64  `db:"id"`
	Name string `db:"name"`
	Kind string `db:"kind"`
	// Machine and Data tell the machine of a local host, and the data folder of the
	// service that works on it, from others; "" until a service has worked on it.
	Machine string `db:"machine"`
	Data    string `db:"data"`
	// Account is where a host is that is elsewhere, Sealed what it is signed in with, and Found
	// what a check has found there; nil: none was made.
	Account JSON[account.Account]   `db:"settings"`
	Sealed  []byte                  `db:"sealed"`
	Found   JSON[*account.Findings] `db:"found"`
	// Provider is the provider's own interface; nil: none is known.
	Provider JSON[*Provider] `db:"provider"`
}

// Provider is a hosting provider's own interface, without what it is signed in with.
type Provider struct {
	Description string `json:"description"`
	Origin      string `json:"origin"`
	User        string `json:"user,omitempty"`
	Private     bool   `json:"private,omitempty"`
}

const selectHosts = `SELECT id, name, kind, machine, data, settings, sealed, found, provider FROM hosts
	WHERE removed_at IS NULL`

// Hosts gives all hosts in the order of their names.
func (r *Records) Hosts(ctx context.Context) (out []Host, err error) {
	err = r.db.SelectContext(ctx, &out, selectHosts+` ORDER BY name`)
	return out, classify("list", "hosts", err)
}

// Host gives a host by name.
func (r *Records) Host(ctx context.Context, name string) (h Host, err error) {
	err = r.db.GetContext(ctx, &h, selectHosts+` AND name = $1`, name)
	e := classify("find host", name, err)
	if fault.CodeOf(e) == fault.NotFound {
		e = fault.New(fault.NotFound, "find", "host", "there is no host %q", name)
	}
	return h, e
}

// SettleHost records which machine and which data folder a local host is.
func (r *Records) SettleHost(ctx context.Context, id int64, machine, data string) error {
	_, err := r.db.ExecContext(ctx, `UPDATE hosts SET machine = $2, data = $3 WHERE id = $1`, id, machine, data)
	return classify("record", "host", err)
}

// AddHost records a host; its name must be new.
func (r *Records) AddHost(ctx context.Context, h Host) (Host, error) {
	err := r.db.GetContext(ctx, &h.ID, `INSERT INTO hosts (name, kind, settings, sealed) VALUES ($1,$2,$3,$4)
		RETURNING id`, h.Name, h.Kind, h.Account, h.Sealed)
	if e := classify("add host", h.Name, err); fault.CodeOf(e) == fault.Exists {
		return h, fault.New(fault.Exists, "add host", h.Name, "a host of that name is there already").
			With("reshard hosts lists them.")
	} else if e != nil {
		return h, e
	}
	return r.Host(ctx, h.Name)
}

// ChangeHost records how a host is reached and what it is signed in with.
func (r *Records) ChangeHost(ctx context.Context, h Host) error {
	_, err := r.db.ExecContext(ctx, `UPDATE hosts SET settings = $2, sealed = $3 WHERE id = $1`, h.ID, h.Account,
		h.Sealed)
	return classify("change host", h.Name, err)
}

// SetProvider records the provider's interface of a host, and what is sealed.
func (r *Records) SetProvider(ctx context.Context, h Host) error {
	_, err := r.db.ExecContext(ctx, `UPDATE hosts SET provider = $2, sealed = $3 WHERE id = $1`, h.ID, h.Provider,
		h.Sealed)
	return classify("change host", h.Name, err)
}

// FoundAt records what a check has found of a host.
func (r *Records) FoundAt(ctx context.Context, id int64, f account.Findings) error {
	_, err := r.db.ExecContext(ctx, `UPDATE hosts SET found = $2 WHERE id = $1`, id, JSON[account.Findings]{f})
	return classify("record", "what was found of a host", err)
}

// RemoveHost forgets a host and what it was signed in with. Busy: servers are on it. Servers
// that were forgotten before stay on record with their changeovers, and lose their host.
func (r *Records) RemoveHost(ctx context.Context, h Host) error {
	var servers int
	err := r.db.GetContext(ctx, &servers, `SELECT count(*) FROM servers WHERE host_id = $1 AND removed_at IS NULL`,
		h.ID)
	if err == nil && servers > 0 {
		return fault.New(fault.Busy, "remove host", h.Name, "%d servers are on it", servers).
			With("Forget those first: reshard servers --host " + h.Name + " lists them.")
	}
	if err == nil {
		_, err = r.db.ExecContext(ctx, `UPDATE hosts SET removed_at = now(), name = name || ' (' || id || ')',
			sealed = NULL, settings = '{}', found = NULL, provider = NULL WHERE id = $1`, h.ID)
	}
	return classify("remove host", h.Name, err)
}
