package records

import (
	"context"
	"io/fs"

	"github.com/jackc/pgx/v5"
)

// Announce says once what migrations do for good.
func Announce(ctx context.Context, address string, changes fs.FS) error {
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return err
	}
	s, err := schemaOf(ctx, config, changes)
	if err != nil {
		return err
	}
	return announce(ctx, config, s, changes)
}
