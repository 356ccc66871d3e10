package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// Listen calls f for every change whose record was touched, until the context ends; after a lost connection it
// connects again and calls f with 0, since something may have been missed.
func (s *Store) Listen(ctx context.Context, f func(changeID int64)) {
	for ctx.Err() == nil {
		s.listenOnce(ctx, f)
		f(0)
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

func (s *Store) listenOnce(ctx context.Context, f func(int64)) {
	c, err := s.Pool.Acquire(ctx)
	if err != nil {
		return
	}
	conn := c.Hijack() // a listening connection must not go back to the pool
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN verimorph_change"); err != nil {
		return
	}
	f(0)
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return
		}
		var id int64
		if _, err := fmt.Sscan(strings.TrimSpace(n.Payload), &id); err == nil {
			f(id)
		}
	}
}

func notify(ctx context.Context, tx pgx.Tx, changeID int64) error {
	_, err := tx.Exec(ctx, "SELECT pg_notify('verimorph_change', $1::text)", fmt.Sprint(changeID))
	return err
}
