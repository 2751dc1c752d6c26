package access

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"oakenchest/core/fault"
)

// Secrets are hashed with Argon2id (RFC 9106), and kept as $argon2id$v=19$m=…,t=…,p=…$SALT$HASH.
const (
	memory, passes, lanes = 19 << 10, 2, 1 // KiB, and the rest as the RFC has it for little memory
	saltSize, hashSize    = 16, 32
	// hashesAtOnce bounds the memory that guessing can take.
	hashesAtOnce = 4
	// leastSecret is the least length of a secret, in characters.
	leastSecret = 8
)

var raw = base64.RawStdEncoding

// hash makes what is kept of a secret.
func (b *Book) hash(secret string) string {
	b.hashing <- struct{}{}
	defer func() { <-b.hashing }()
	salt := make([]byte, saltSize)
	_, _ = rand.Read(salt) // never fails
	sum := argon2.IDKey([]byte(secret), salt, passes, memory, lanes, hashSize)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, lanes, raw.EncodeToString(salt),
		raw.EncodeToString(sum))
}

// nobodys is the hash of a secret that nobody has: who does not exist takes as long to refuse as who does.
const nobodys = "$argon2id$v=19$m=19456,t=2,p=1$b2FrZW4gY2hlc3QgMDAwMQ$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// matches reports whether a secret is the one that a hash was made of.
func (b *Book) matches(secret, hash string) bool {
	b.hashing <- struct{}{}
	defer func() { <-b.hashing }()
	var v, m, t, p uint32
	fields := strings.Split(hash, "$")
	if len(fields) != 6 || fields[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(fields[2]+" "+fields[3], "v=%d m=%d,t=%d,p=%d", &v, &m, &t, &p); err != nil || v != argon2.Version ||
		m > 1<<20 || t > 100 || p < 1 || p > 255 {
		return false
	}
	salt, err1 := raw.DecodeString(fields[4])
	want, err2 := raw.DecodeString(fields[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false
	}
	got := argon2.IDKey([]byte(secret), salt, t, m, uint8(p), uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// CheckSecret refuses a secret that is too easily guessed.
func CheckSecret(name, secret string) error {
	if len([]rune(secret)) < leastSecret || fold(secret) == fold(name) || strings.Count(secret, secret[:1]) == len(secret) {
		return fault.New(fault.Usage, "Four words that nobody would put together are easy to keep in mind.",
			"A secret has at least %d characters, and is not the name.", leastSecret)
	}
	return nil
}

// guesses counts failed tries of late by name and by address: after some, each further one has to wait, twice as long
// each time.
type guesses struct {
	mu    sync.Mutex // guards tries
	tries map[string]tried
}

type tried struct {
	times int
	until time.Time
}

const (
	freeTries   = 5
	longestWait = 15 * time.Minute
	// mostNames bounds what is remembered.
	mostNames = 10_000
)

// wait gives for how long a try has to wait still.
func (g *guesses) wait(now time.Time, keys ...string) (d time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, k := range keys {
		if t, ok := g.tries[k]; ok && t.times >= freeTries {
			d = max(d, t.until.Sub(now))
		}
	}
	return d
}

// failed counts a try that failed.
func (g *guesses) failed(now time.Time, keys ...string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.tries == nil {
		g.tries = map[string]tried{}
	}
	if len(g.tries) > mostNames {
		for k, t := range g.tries {
			if t.until.Before(now) {
				delete(g.tries, k)
			}
		}
	}
	for _, k := range keys {
		t := g.tries[k]
		t.times++
		wait := longestWait
		if n := t.times - freeTries; n < 10 {
			wait = min(wait, time.Second<<max(n, 0))
		}
		t.until = now.Add(wait)
		g.tries[k] = t
	}
}

// succeeded forgets failed tries.
func (g *guesses) succeeded(keys ...string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, k := range keys {
		delete(g.tries, k)
	}
}

// slowed refuses a try that comes too soon after others.
func (b *Book) slowed(_ context.Context, keys ...string) error {
	if d := b.guesses.wait(b.now(), keys...); d > 0 {
		return fault.New(fault.Refused, "Who has forgotten the secret asks an administrator for an invitation.",
			"There were too many tries: the next one is possible in %s.", max(d, time.Second).Round(time.Second))
	}
	return nil
}
