package engine

import (
	"context"
	"fmt"

	"verimorph/access"
)

// Keys of the installation.

// RotateKey makes a new key of the installation, wraps the data keys with it, encrypts every backup anew and then forgets
// the old key. It may be cut short anywhere: the next start goes on.
func (e *Engine) RotateKey(ctx context.Context, by access.Actor) error {
	if err := e.Vault.RotateKey(ctx); err != nil {
		return err
	}
	if err := e.Store.Audit(ctx, by, "installation key rotated", "", ""); err != nil {
		return err
	}
	return e.finishRotation(ctx)
}

// An OldKeyNeededError says that a new key is in use, but the older one has to stay in the key file for now.
type OldKeyNeededError struct{ Volumes []string }

func (e *OldKeyNeededError) Error() string {
	return fmt.Sprintf("the new key is in use, but the older one stays in the key file: %d volumes of the backup store still need it (the first: %s). It is tried again every hour; when that does not help, look with: verimorph backup check", len(e.Volumes), e.Volumes[0])
}

// finishRotation takes older keys out of the key file once nothing needs them any more, which is looked at and not
// assumed: every volume of the store opens with the new key alone.
func (e *Engine) finishRotation(ctx context.Context) error {
	if err := e.Vault.FinishRotation(ctx); err != nil {
		return err
	}
	if err := e.Reseal(ctx); err != nil { // what the first versions sealed was sealed with the old key
		return err
	}
	for try := 1; ; try++ {
		if err := e.tidy(ctx, true); err != nil {
			return err
		}
		identities, err := e.Vault.Identities()
		if err != nil {
			return err
		}
		need, err := e.Backups.NotFor(identities[:1])
		if err != nil {
			return err
		}
		if len(need) == 0 {
			return e.Vault.DropOlder(ctx)
		}
		if try == rewrites {
			return &OldKeyNeededError{need}
		}
		if err := pause(ctx, rewritePause); err != nil {
			return err
		}
	}
}

// RotateDataKey makes a new data key and seals every secret of the records with it.
func (e *Engine) RotateDataKey(ctx context.Context, by access.Actor) error {
	if err := e.Vault.RotateDataKey(ctx); err != nil {
		return err
	}
	if err := e.Store.Audit(ctx, by, "data key rotated", "", ""); err != nil {
		return err
	}
	return e.Reseal(ctx)
}
