package cli

import (
	"context"

	"verimorph/device"
)

// A testTarget is a device of a kind.
type testTarget struct {
	device.Target
	Dialect *Dialect
}

// Dial connects to a device of its kind.
func Dial(ctx context.Context, t testTarget) (*Client, error) { return t.Dialect.dial(ctx, t.Target) }

// LoadSlot starts a slot from the boot loader of a device of its kind.
func LoadSlot(ctx context.Context, t testTarget, slot string) error {
	return t.Dialect.LoadSlot(ctx, t.Target, slot)
}
