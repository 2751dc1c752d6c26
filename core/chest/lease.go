package chest

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"oakenchest/core/rights"
)

// A lease is a file in the chest's folder that says who is at work, and for how long that
// can be believed: its owner writes it anew while at work, and one that has grown old
// belongs to a process that was killed, or to a machine that lost its connection. It needs
// nothing of a network file system but that files can be created exclusively, and ages
// are taken from its own clock: from the times of the files.
type lease struct {
	file string
	stop chan struct{}
	once sync.Once
}

// owner is what a lease says of who has it.
type owner struct {
	Machine string `json:"machine"`
	Process int    `json:"process"`
}

const (
	// renewal is how often a lease is written anew, lifetime the age at which it is void.
	renewal  = 15 * time.Second
	lifetime = 75 * time.Second
)

func self() owner {
	machine, _ := os.Hostname() // without a name only the age tells
	return owner{machine, os.Getpid()}
}

// takeLease creates a lease; os.ErrExist when there is one.
func takeLease(file string) (*lease, error) {
	data, err := json.Marshal(self())
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return nil, err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Chmod(rights.File(filepath.Dir(file))), f.Close()); err != nil {
		os.Remove(file)
		return nil, err
	}
	l := &lease{file: file, stop: make(chan struct{})}
	go l.renew(data)
	return l, nil
}

func (l *lease) renew(data []byte) {
	tick := time.NewTicker(renewal)
	defer tick.Stop()
	for {
		select {
		case <-l.stop:
			return
		case <-tick.C:
			_ = os.WriteFile(l.file, data, 0o666) // a lost connection lets it grow old
		}
	}
}

// release gives the lease back.
func (l *lease) release() {
	l.once.Do(func() {
		close(l.stop)
		_ = os.Remove(l.file) // else it grows old
	})
}

// live reports whether a lease is held by somebody at work; now is the time of the file
// system. One that is void is taken away.
func live(file string, now time.Time) bool {
	info, err := os.Stat(file)
	if err != nil {
		return false
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return !errors.Is(err, os.ErrNotExist)
	}
	var o owner
	readable := json.Unmarshal(data, &o) == nil
	me := self()
	dead := readable && o.Machine == me.Machine && me.Machine != "" && o.Process != me.Process && !running(o.Process)
	unborn := !readable && now.Sub(info.ModTime()) > renewal // killed between making it and writing it
	if dead || unborn || now.Sub(info.ModTime()) > lifetime {
		_ = os.Remove(file)
		return false
	}
	return true
}

// holds is the folder of leases.
func (c *Chest) holds() string { return filepath.Join(c.Dir, "holds") }

const (
	aloneName  = "alone"
	sharedMark = ".at-work"
)

// takeHold takes a lease for Hold; ok is false while others are in the way.
func (c *Chest) takeHold(alone bool) (l *lease, ok bool, err error) {
	if err := rights.Folder(c.holds()); err != nil {
		return nil, false, err
	}
	name := filepath.Join(c.holds(), aloneName)
	if !alone {
		l, err = takeLease(filepath.Join(c.holds(), rand.Text()+sharedMark))
		if err != nil {
			return nil, false, err
		}
		if live(name, l.taken()) {
			l.release()
			return nil, false, nil
		}
		return l, true, nil
	}
	l, err = takeLease(name)
	if errors.Is(err, os.ErrExist) {
		probe, err := takeLease(filepath.Join(c.holds(), rand.Text()+".probe"))
		if err != nil {
			return nil, false, err
		}
		defer probe.release()
		live(name, probe.taken())
		return nil, false, nil
	}
	return l, err == nil, err
}

// taken gives the time of the file system at which a lease was written.
func (l *lease) taken() time.Time {
	if info, err := os.Stat(l.file); err == nil {
		return info.ModTime()
	}
	return time.Now()
}

// othersAtWork reports whether anybody holds the chest together with others.
func (c *Chest) othersAtWork(now time.Time) bool {
	entries, err := os.ReadDir(c.holds())
	if err != nil {
		return true
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), sharedMark) && live(filepath.Join(c.holds(), e.Name()), now) {
			return true
		}
	}
	return false
}

// hold waits for a lease.
func (c *Chest) hold(ctx context.Context, alone bool) (*lease, error) {
	const pause = 20 * time.Millisecond
	var l *lease
	for {
		if l == nil {
			taken, ok, err := c.takeHold(alone)
			if err != nil {
				return nil, err
			}
			if ok {
				l = taken
			}
		}
		if l != nil && (!alone || !c.othersAtWork(l.taken())) {
			return l, nil
		}
		select {
		case <-ctx.Done():
			if l != nil {
				l.release()
			}
			return nil, ctx.Err()
		case <-time.After(pause):
		}
	}
}
