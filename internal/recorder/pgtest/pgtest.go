// Package pgtest runs PostgreSQL for tests.
package pgtest

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/require"
)

// Server is a PostgreSQL in a temporary folder, which may be started as often as it ends.
type Server struct {
	URL  string
	dir  string
	bin  string
	port int
}

// Make makes the folder of a server that was not started. Without PostgreSQL the test is skipped.
func Make(t testing.TB) *Server {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		t.Skip("PostgreSQL is not installed")
	}
	dir, err := os.MkdirTemp("", "catena-pg")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if os.Getuid() == 0 {
		out, err := exec.Command("chown", "nobody", dir).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &Server{dir: dir, bin: filepath.Dir(found[len(found)-1]),
		port: free.Addr().(*net.TCPAddr).Port}
	_ = free.Close()
	s.URL = fmt.Sprintf("postgres://catena@127.0.0.1:%d/postgres?sslmode=disable", s.port)
	out, err := s.as("initdb", "-D", s.data(), "-U", "catena", "-A", "trust", "--no-sync",
		"--no-locale", "-E", "UTF8").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return s
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

// as is a program of PostgreSQL, which refuses to be root.
func (s *Server) as(name string, args ...string) *exec.Cmd {
	program := filepath.Join(s.bin, name)
	if os.Getuid() == 0 {
		return exec.Command("setpriv", append([]string{"--reuid=nobody", "--regid=nogroup",
			"--clear-groups", program}, args...)...)
	}
	return exec.Command(program, args...)
}

// Command is the server itself.
func (s *Server) Command() *exec.Cmd {
	return s.as("postgres", "-D", s.data(), "-p", fmt.Sprint(s.port), "-k", s.dir, "-c",
		"listen_addresses=127.0.0.1")
}

// Await waits until the server answers.
func (s *Server) Await(t testing.TB) {
	require.Eventually(t, func() bool {
		db, err := sql.Open("pgx", s.URL)
		if err != nil {
			return false
		}
		defer func() { _ = db.Close() }()
		return db.PingContext(t.Context()) == nil
	}, time.Minute, 100*time.Millisecond)
}

// New starts a server that runs until the test ends.
func New(t testing.TB) *Server {
	s := Make(t)
	server := s.Command()
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Process.Signal(os.Interrupt); _ = server.Wait() })
	s.Await(t)
	return s
}
