package shareddb

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"brickrow/internal/files"
)

var words = regexp.MustCompile(`(?:^|\s)(?:host|hostaddr|port|dbname|user|password|passfile|service|sslmode)\s*=`)

// IsWords reports whether a text names a server in another way than by a URL: host=… password=….
func IsWords(text string) bool { return !IsURL(text) && words.MatchString(text) }

// Shown is where a store is, without what lets one in.
func Shown(text string) string {
	switch {
	case IsURL(text):
		return Place(text)
	case IsWords(text):
		return "(no URL, and a password may stand in it)"
	}
	return text
}

// ErrWords says that a server is named by words.
var ErrWords = errors.New("the store is given as host=… user=…: write postgres://user@host:port/database; " +
	"the password belongs into a file that only you can read, which PGPASSFILE names, or into PGPASSWORD")

// Configuration reads the URL of a database. A server that is not on this machine is connected to with TLS, unless the
// URL says sslmode=disable, or PGSSLMODE does; a file of passwords that others can read is refused.
func Configuration(where string) (*pgxpool.Config, error) {
	if IsWords(where) {
		return nil, ErrWords
	}
	if err := PasswordFile(); err != nil {
		return nil, err
	}
	config, err := pgxpool.ParseConfig(where)
	if err != nil {
		return nil, errors.New("the URL of the store cannot be read: write postgres://user@host:port/database")
	}
	c := &config.ConnConfig.Config
	ways := append([]*pgconn.FallbackConfig{{Host: c.Host, Port: c.Port, TLSConfig: c.TLSConfig}}, c.Fallbacks...)
	if !slices.ContainsFunc(ways, func(w *pgconn.FallbackConfig) bool { return w.TLSConfig != nil }) {
		return config, nil // without TLS, as was said, or there is none to a socket
	}
	ways = slices.DeleteFunc(ways, func(w *pgconn.FallbackConfig) bool { return w.TLSConfig == nil && !here(w.Host) })
	c.Host, c.Port, c.TLSConfig, c.Fallbacks = ways[0].Host, ways[0].Port, ways[0].TLSConfig, ways[1:]
	return config, nil
}

// here reports whether a server is on this machine.
func here(host string) bool {
	if host == "" || strings.HasPrefix(host, "/") || strings.HasPrefix(host, "@") || strings.EqualFold(host, "localhost") {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// PasswordFile refuses the file that passwords are looked up in where others can read it.
func PasswordFile() error {
	path := os.Getenv("PGPASSFILE")
	if path == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil
		}
		path = filepath.Join(home, ".pgpass")
	}
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() {
		return nil // nothing is read from it
	}
	return files.Private(path, info)
}

// Line says how the connection to the server is kept from others: encrypted, or not and why.
type Line struct {
	TLS      bool   `json:"tls"`
	Verified bool   `json:"verified"` // the server has shown a certificate that was held against its name
	Words    string `json:"words"`
}

// verifies reports whether a server is asked who it is.
func verifies(c *tls.Config) bool {
	return c != nil && (!c.InsecureSkipVerify || c.VerifyPeerCertificate != nil || c.VerifyConnection != nil)
}

// Line tells how the connections are.
func (d *DB) Line(ctx context.Context) (Line, error) {
	conn, err := d.reads.Acquire(ctx)
	if err != nil {
		return Line{}, err
	}
	defer conn.Release()
	pg := conn.Conn().PgConn()
	if c, ok := pg.Conn().(*tls.Conn); ok {
		verified := verifies(d.config.ConnConfig.TLSConfig)
		out := Line{TLS: true, Verified: verified, Words: "the connection is encrypted (" + tls.VersionName(c.ConnectionState().Version) + ")"}
		if !verified {
			out.Words += "; who the server is was not verified: sslmode=verify-full does"
		}
		return out, nil
	}
	if pg.Conn().RemoteAddr().Network() == "unix" {
		return Line{Words: "the connection is not encrypted; it stays on this machine"}, nil
	}
	host, _, err := net.SplitHostPort(pg.Conn().RemoteAddr().String())
	if err == nil && here(host) {
		return Line{Words: "the connection is not encrypted; it stays on this machine"}, nil
	}
	return Line{Words: fmt.Sprintf("the connection to %s is not encrypted: whoever is on the way can read and change what is sent; take sslmode=disable away, or write sslmode=verify-full", d.config.ConnConfig.Host)}, nil
}
