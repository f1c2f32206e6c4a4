// Package yard is the stand-in cloud: a real HTTP service with accounts,
// regions, quotas, rules and long operations, kept in a database of its own.
//
// Its operations are a function of time. Each is a row with its start, its
// steps and its outcome; whoever reads computes where it is now, and applies
// what has ended meanwhile. So it needs no background work, survives any kill, and
// several processes can use one database at once. Scripts on servers alone take
// as long as they take: they stand in queues, and a process that has the yard open
// carries them out (runner.go).
//
// Secrets, which a request marks at any depth, are never shown: a keyed
// fingerprint stands in their place, as a cloud shows that a secret is set
// without showing it. What the yard needs of them for its own rules it keeps
// encrypted, and so it does with all words that may repeat one.
package yard

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	_ "modernc.org/sqlite" // the driver

	"brickrow/internal/files"
	"brickrow/internal/sqlite"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Operator is whose token opens the door to the stand-in itself.
const Operator = "operator"

// The accounts, regions and images of the stand-in.
var (
	Accounts = []string{"summit", "workshop"}
	Regions  = []string{"alder-1", "birch-1", "cedar-2"}
	images   = map[string][]string{ // by region
		"alder-1": {"fern-11", "fern-12", "fern-13", "moss-3"},
		"birch-1": {"fern-11", "fern-12", "fern-13", "moss-3"},
		"cedar-2": {"fern-11", "fern-12", "moss-3"},
	}
)

// Targets lists the places of the stand-in.
func (y *Yard) Targets() []stack.Target {
	var out []stack.Target
	for _, a := range y.accounts {
		for _, r := range Regions {
			out = append(out, stack.Target{Account: a, Region: r})
		}
	}
	return out
}

// Options configure a yard. Without Speed and Now it runs
// at speed 1 on the real clock.
type Options struct {
	Library *tosca.Library   // the types of what it makes
	Speed   float64          // how many times faster than nominal; 0 is 1
	Now     func() time.Time // nil is time.Now
	More    int              // so many accounts there are beside the usual ones: hut-001, hut-002 and so on
}

// Yard is an open stand-in cloud.
type Yard struct {
	db     *sqlite.DB
	lib    *tosca.Library
	speed  float64
	now    func() time.Time
	key    []byte // of the fingerprints
	runner *runner

	accounts []string
}

//go:embed migrations/*.sql
var migrations embed.FS

// Open opens or makes the yard in the folder dir. The folder must exist.
func Open(dir string, o Options) (*Yard, error) {
	y := &Yard{lib: o.Library, speed: o.Speed, now: o.Now}
	y.runner = newRunner(y)
	y.accounts = slices.Clone(Accounts)
	for i := range o.More {
		y.accounts = append(y.accounts, fmt.Sprintf("hut-%03d", i+1))
	}
	if y.speed <= 0 {
		y.speed = 1
	}
	if y.now == nil {
		y.now = time.Now
	}
	file := filepath.Join(dir, "yard.db")
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(filepath.Join(dir, CredentialsFile)); err == nil {
			return nil, fmt.Errorf("the stand-in cloud %s is missing, and what stood in it is gone: put the file "+
				"back, or remove %s to begin with an empty one, whose tokens are new; for a cloud elsewhere set "+
				"BRICKROW_CLOUD", file, filepath.Join(dir, CredentialsFile))
		}
	}
	var err error
	if y.db, err = sqlite.Open(file, "NORMAL", migrations); err != nil {
		return nil, err
	}
	if err := y.prepare(dir); err != nil {
		y.db.Close()
		return nil, fmt.Errorf("open the yard in %s: %w", dir, err)
	}
	return y, nil
}

// prepare makes the key of the yard, once, and leaves the credentials.
func (y *Yard) prepare(dir string) error {
	key := make([]byte, 32)
	if _, err := rand.Read(key); err != nil {
		return err
	}
	if _, err := y.db.ExecContext(context.Background(),
		`insert into meta(name, value) values('key', ?) on conflict do nothing`, hex.EncodeToString(key)); err != nil {
		return err
	}
	var stored string
	if err := y.db.QueryRowContext(context.Background(), `select value from meta where name = 'key'`).
		Scan(&stored); err != nil {
		return err
	}
	var err error
	if y.key, err = hex.DecodeString(stored); err != nil {
		return err
	}
	return y.writeCredentials(dir)
}

// CredentialsFile is the file in the yard's folder with a token per account.
const CredentialsFile = "credentials.json"

// writeCredentials leaves a token for each account where the owner of the
// folder, and nobody else, can read it. Tokens follow from the yard's key.
func (y *Yard) writeCredentials(dir string) error {
	path := filepath.Join(dir, CredentialsFile)
	if _, err := os.Stat(path); len(y.accounts) == len(Accounts) && (err == nil || !errors.Is(err, fs.ErrNotExist)) {
		return err
	}
	b, err := json.MarshalIndent(y.Tokens(), "", "  ")
	if err != nil {
		return err
	}
	return files.Write(path, append(b, '\n'), 0o600)
}

// Tokens is the bearer token of each account, and of the operator.
func (y *Yard) Tokens() map[string]string {
	t := map[string]string{}
	for _, a := range append([]string{Operator}, y.accounts...) {
		t[a] = "yard-" + y.sign("token/" + a)[:40]
	}
	return t
}

func (y *Yard) sign(s string) string { return hex.EncodeToString(y.mac(s)) }

func (y *Yard) mac(s string) []byte {
	m := hmac.New(sha256.New, y.key)
	m.Write([]byte(s))
	return m.Sum(nil)
}

// Close closes the database. Scripts that do not come to their ends in a moment go back into
// their queues.
func (y *Yard) Close() error {
	y.runner.close()
	return y.db.Close()
}

// ms is the yard's clock: milliseconds of real time.
func (y *Yard) ms() int64 { return y.now().UnixMilli() }

// inTx runs f in a transaction that sees everything that has ended by now.
func (y *Yard) inTx(ctx context.Context, f func(t *tx) error) error {
	var keep *keptProblem
	queued := false
	err := y.db.Write(ctx, func(raw *sqlite.Tx) error {
		t := &tx{database: raw, y: y, now: y.ms()}
		if err := t.settle(ctx); err != nil {
			return err
		}
		err := f(t)
		queued = t.queued
		if errors.As(err, &keep) { // a refusal that used up a fault
			return nil
		}
		return err
	})
	if queued {
		y.runner.wake()
	}
	if err == nil && keep != nil {
		return keep.problem
	}
	return err
}

// look runs f, which only reads, and sees everything that has ended by now. Unless
// something has ended of which nobody has heard yet, nobody has to wait for it.
func (y *Yard) look(ctx context.Context, f func(t *tx) error) error {
	settled := false
	err := y.db.View(ctx, func(s *sqlite.Snapshot) error {
		t := &tx{database: s, y: y, now: y.ms()}
		var open int
		err := t.QueryRowContext(ctx, `select count(*) from operations where settled = 0 and end_ms <= ?`, t.now).
			Scan(&open)
		if settled = err == nil && open == 0; !settled {
			return err
		}
		return f(t)
	})
	if err != nil || settled {
		return err
	}
	return y.inTx(ctx, f)
}
