// Package servertest runs offices for tests.
package servertest

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/office"
	"catena/internal/office/server"
)

// Office is an office whose server runs until the test ends, or Stop is called.
type Office struct {
	*office.Office
	At   string
	Stop func()
}

// New makes an office, and starts its server.
func New(t *testing.T) *Office {
	dir := filepath.Join(t.TempDir(), "office")
	require.NoError(t, office.Init(dir, "Canal Works", "127.0.0.1:4222"))
	require.ErrorIs(t, office.Init(dir, "Canal Works", "127.0.0.1:4222"), office.ErrThere)
	f := &Office{Office: &office.Office{Dir: dir}}
	f.listen(t, "127.0.0.1:0")
	f.Serve(t, server.Options{})
	return f
}

// listen has the server listen at an address from its next start on.
func (f *Office) listen(t *testing.T, at string) {
	require.NoError(t, os.WriteFile(filepath.Join(f.Dir, office.File),
		[]byte("office: Canal Works\naddress: \"127.0.0.1:4222\"\nlisten: \""+at+"\"\n"), 0o600))
	var err error
	f.Office, err = office.Open(f.Dir)
	require.NoError(t, err)
}

// Again starts the server again where it was.
func (f *Office) Again(t *testing.T) {
	f.listen(t, f.At)
	f.Serve(t, server.Options{})
}

// Serve starts the server.
func (f *Office) Serve(t *testing.T, l server.Options) {
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- server.Run(ctx, f.Office, l, slog.New(slog.DiscardHandler),
			func(string) {}, func(at string) { ready <- at })
	}()
	select {
	case f.At = <-ready:
	case err := <-ended:
		require.NoError(t, err)
	}
	stopped := false
	f.Stop = func() {
		if cancel(); !stopped {
			stopped = true
			assert.NoError(t, <-ended)
		}
	}
	t.Cleanup(f.Stop)
}

// AddSite makes the credentials of a site.
func (f *Office) AddSite(t *testing.T, name string, valid time.Duration) office.Credentials {
	c, err := f.Office.Add(name, valid, time.Now())
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), name+office.Ending)
	require.NoError(t, os.WriteFile(file, c.Text(), 0o600))
	c, err = office.ReadCredentials(file)
	require.NoError(t, err)
	c.Address = f.At
	return c
}
