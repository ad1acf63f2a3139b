package records

import (
	"context"

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
}

// Hosts gives all hosts in the order of their names.
func (r *Records) Hosts(ctx context.Context) (out []Host, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT id, name, kind, machine, data FROM hosts ORDER BY name`)
	return out, classify("list", "hosts", err)
}

// Host gives a host by name.
func (r *Records) Host(ctx context.Context, name string) (h Host, err error) {
	err = r.db.GetContext(ctx, &h, `SELECT id, name, kind, machine, data FROM hosts WHERE name = $1`, name)
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
