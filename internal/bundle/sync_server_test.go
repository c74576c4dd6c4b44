//go:build unix

package bundle_test

import (
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/login"
	"catena/internal/place"
	"catena/internal/place/placetest"
	"catena/internal/wire"
)

// The same sync goes over a real sshd and a real Apache; without its login, neither lets anyone in.
func TestSyncOverServers(t *testing.T) {
	for name, start := range map[string]func(*testing.T) (to, root string, as login.Entry){
		"sftp": placetest.SFTP, "webdav": placetest.WebDAV,
	} {
		t.Run(name, func(t *testing.T) {
			to, _, as := start(t)
			var book login.Book
			contact := place.Contact{Login: book.At, Trust: func(string) wire.Trust {
				return func(string, string) error { return nil }
			}}
			refused, err := place.Open(t.Context(), to, contact)
			if err == nil {
				_, err = refused.Names("")
			}
			require.Error(t, err)
			_, err = book.Add(as)
			require.NoError(t, err)
			contact.Login = book.At
			var at place.Place
			require.Eventually(t, func() bool {
				var err error
				if at, err = place.Open(t.Context(), to, contact); err == nil {
					_, err = at.Names("")
				}
				return err == nil
			}, 20*time.Second, 100*time.Millisecond)
			defer at.Close()
			_, err = at.Get("not-there", 0)
			assert.ErrorIs(t, err, fs.ErrNotExist)
			exchange(t, at)
		})
	}
}
