package chest

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"time"

	"oakenchest/core/fault"
	"oakenchest/core/rights"
)

// reserveWait bounds how long Reserve waits for others.
const reserveWait = time.Minute

// Reserve lets one process alone change an environment, among all that use the chest. It
// waits for others for a while. A process that is killed loses it.
func (c *Chest) Reserve(ctx context.Context, environment string) (release func(), err error) {
	if err := rights.Folder(c.holds()); err != nil {
		return nil, Explain(err)
	}
	sum := sha256.Sum256([]byte(c.RecordName(environment)))
	name := filepath.Join(c.holds(), "environment-"+hex.EncodeToString(sum[:8]))
	for begun := time.Now(); ; {
		l, err := takeLease(name)
		if err == nil {
			return l.release, nil
		}
		if !errors.Is(err, os.ErrExist) {
			return nil, Explain(err)
		}
		if err := c.clearDead(name); err != nil {
			return nil, Explain(err)
		}
		if time.Since(begun) > reserveWait {
			return nil, fault.New(fault.Refused, "Wait until that has finished, and try again.", "Somebody else is changing %s.", environment)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// clearDead takes a lease away that belongs to nobody any more.
func (c *Chest) clearDead(name string) error {
	probe, err := takeLease(filepath.Join(c.holds(), rand.Text()+".probe"))
	if err != nil {
		return err
	}
	defer probe.release()
	live(name, probe.taken())
	return nil
}
