package chest

import (
	"context"
	"crypto/rand"
	"errors"
	"sync"
	"time"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/trace"
)

// A lease is a row that says who is at work, under a name that nobody else has, and how often it was taken: its
// fence. Its owner renews it while at work. One that others have watched stand still for its lifetime, by their
// own clocks, belongs to a process that was killed or stopped, or has lost its connection, and is taken over by
// comparing and exchanging. It says nothing of machines or processes, so that containers, clones and hosts of
// one name exclude each other. Whoever sleeps and wakes finds that acts are refused, which were decided under a
// fence that is not the newest (C. Gray, D. Cheriton, "Leases", SOSP 1989; the fence after M. Burrows, "The
// Chubby lock service", OSDI 2006, section 2.4).

const (
	// renewal is how often a lease is renewed, lifetime how long it may stand still before it is void.
	renewal  = time.Second
	lifetime = 5 * time.Second
	// glance is how often somebody who waits looks at a lease.
	glance = 40 * time.Millisecond
)

// TidyLease is the name of the lease under which a chest is tidied; GatherLease that under which small bales
// are gathered into large ones.
const (
	TidyLease   = "tidy"
	GatherLease = "gather"
	// environmentLease begins the names of those under which environments are changed.
	environmentLease = "environment "
)

// lease is one that is held here.
type lease struct {
	chest *Chest
	own   ledger.Lease
	base  context.Context // of who took it, which does not end
	stop  context.CancelFunc
	done  sync.WaitGroup
	once  sync.Once
}

// heldLeases are the leases that are held, and what contents were stored on.
type heldLeases struct {
	mu      sync.Mutex
	held    map[*lease]bool
	tidied  int64 // how often the chest had been tidied when the oldest contents of now were stored
	seen    int64 // how often it was when the bales were looked at last
	fresh   bool  // that was done at all
	storing int
}

func (h *heldLeases) add(l *lease) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.held == nil {
		h.held = map[*lease]bool{}
	}
	h.held[l] = true
}

func (h *heldLeases) remove(l *lease) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.held, l)
}

// grounds gives what acts are decided on.
func (h *heldLeases) grounds() (g Grounds) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.held {
		g.Leases = append(g.Leases, Fence{l.own.Name, l.own.Fence})
	}
	if h.storing > 0 {
		n := h.tidied
		g.Tidied = &n
	}
	return g
}

func (h *heldLeases) releaseAll() {
	h.mu.Lock()
	var all []*lease
	for l := range h.held {
		all = append(all, l)
	}
	h.mu.Unlock()
	for _, l := range all {
		l.release()
	}
}

// release gives the lease back.
func (l *lease) release() {
	l.once.Do(func() {
		l.stop()
		l.done.Wait()
		l.chest.leases.remove(l)
		l.chest.sight.drop()
		ctx, cancel := context.WithTimeout(l.base, 2*time.Second)
		defer cancel()
		_ = l.chest.store.Lease(ctx, LeaseStep{Do: FreeLease, Seen: l.own}) // else it stands still, and is void soon
	})
}

// renew keeps the lease alive until ctx ends.
func (l *lease) renew(ctx context.Context) {
	tick := time.NewTicker(renewal)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			end := trace.Begin(ctx, trace.Lease, "renew "+l.own.Name)
			_ = l.chest.store.Lease(ctx, LeaseStep{Do: BeatLease, Seen: l.own}) // what fails here is refused at the act
			end()
		}
	}
}

// take takes a lease, when nobody else holds it, or waits until ctx ends.
func (c *Chest) take(ctx context.Context, name string) (*lease, error) {
	var w leaseWatch
	for {
		free, err := w.look(ctx, c, name)
		if err != nil {
			return nil, err
		}
		if free {
			l, err := c.tryTake(ctx, w.seen)
			if err == nil || !refused(err, Taken) {
				return l, err
			}
			continue
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(glance):
		}
	}
}

// leaseWatch watches a lease.
type leaseWatch struct {
	seen    ledger.Lease
	since   time.Time // when it was first seen so
	watched bool
	proven  bool // that it could have been renewed meanwhile
}

// look looks at a lease once more, and reports whether it can be taken: nobody holds it, or it stood still
// for its lifetime. Before it says the latter it makes sure that the chest can be written at all, and leaves
// the holder time to renew after that: a long reading of the records holds up everybody.
func (w *leaseWatch) look(ctx context.Context, c *Chest, name string) (free bool, err error) {
	now, known := ledger.Lease{}, false
	if !w.watched { // a fence that is not the newest is refused anyhow
		now, known = c.sight.lease(name)
	}
	if !known {
		ask := ctx
		if w.watched { // whoever waits looks at it anew
			ask = AskNewly(ctx)
		}
		if now, err = c.leaseNow(ask, name); err != nil {
			return false, err
		}
	}
	if !w.watched || now != w.seen {
		*w = leaseWatch{seen: now, since: time.Now(), watched: true}
	}
	if w.seen.Owner == "" {
		return true, nil
	}
	if time.Since(w.since) < lifetime {
		return false, nil
	}
	if !w.proven {
		w.proven, w.since = true, time.Now().Add(2*renewal-lifetime)
		return false, c.store.Lease(ctx, LeaseStep{Do: ProbeLease})
	}
	return true, nil
}

// tryTake takes a lease that is as it was seen.
func (c *Chest) tryTake(ctx context.Context, seen ledger.Lease) (*lease, error) {
	own := ledger.Lease{Name: seen.Name, Owner: rand.Text(), Fence: seen.Fence + 1, Person: c.Actor.Person, Workspace: c.Actor.Workspace,
		Since: c.store.Now()}
	c.sight.drop()
	end := trace.Begin(ctx, trace.Lease, "take "+seen.Name)
	err := c.store.Lease(ctx, LeaseStep{Do: TakeLease, Seen: seen, Take: own})
	end()
	if err != nil {
		return nil, err
	}
	l := &lease{chest: c, own: own, base: context.WithoutCancel(ctx)}
	alive, stop := context.WithCancel(l.base)
	l.stop = stop
	l.done.Go(func() { l.renew(alive) })
	c.leases.add(l)
	return l, nil
}

// leaseNow gives a lease as it stands.
func (c *Chest) leaseNow(ctx context.Context, name string) (ledger.Lease, error) {
	at := ledger.Lease{Name: name}
	err := c.View(ctx, func(r ledger.Records) error {
		all, err := r.Leases()
		for _, l := range all {
			if l.Name == name {
				at = l
			}
		}
		return err
	})
	return at, err
}

// reserveWait bounds how long Reserve waits for others.
const reserveWait = time.Minute

// dueLease is the one of who carries out what is planned.
const dueLease = "due"

// ReserveDue lets one process alone carry out what is planned, among all that use the chest: two that did it at once would
// each say what became of the same thing.
func (c *Chest) ReserveDue(ctx context.Context) (release func(), err error) {
	wait, cancel := context.WithTimeout(ctx, reserveWait)
	defer cancel()
	l, err := c.take(wait, dueLease)
	switch {
	case err == nil:
		return l.release, nil
	case ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
		return nil, fault.New(fault.Refused, "Nothing has to be done: what is due is being carried out.",
			"Somebody else is carrying out what is planned.")
	}
	return nil, Explain(err)
}

// Reserve lets one process alone change an environment, among all that use the chest. It waits for others for
// a while. A process that is killed loses it after a few seconds; one that sleeps for longer finds its acts
// refused.
func (c *Chest) Reserve(ctx context.Context, environment string) (release func(), err error) {
	wait, cancel := context.WithTimeout(ctx, reserveWait)
	defer cancel()
	l, err := c.take(wait, environmentLease+c.RecordName(environment))
	switch {
	case err == nil:
		return l.release, nil
	case ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
		return nil, fault.New(fault.Refused, "Wait until that has finished, and try again.", "Somebody else is changing %s.", environment)
	}
	return nil, Explain(err)
}
