package bacnet

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"catena/internal/bacnet"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/settings"
	"catena/internal/wire"
)

// Bounds of a backup.
const (
	maxFiles   = 64
	maxBackup  = 64 << 20 // bytes of all its files
	preparesIn = time.Minute
	looksEvery = 500 * time.Millisecond
	endsWithin = 10 * time.Second
)

// Settings are the configuration files of the device, by the standard's backup and restore (19.1).
// They are kept as a tar archive of its files, whose names are those of their objects.
func (s *session) Settings() (dialect.Settings, error) { return config{s}, nil }

type config struct{ *session }

func (config) Format() settings.Format { return settings.Opaque }

func (config) Renamed() map[string]string { return nil }

func (config) Steady() bool { return false }

// States of a backup or a restore (BACnetBackupState).
const (
	preparingBackup  = 1
	preparingRestore = 2
	backupFailed     = 5
	restoreFailed    = 6
)

// Save takes a backup, and ends it whatever the result.
func (c config) Save(ctx context.Context) (saved []byte, err error) {
	talk, err := c.talk(ctx)
	if err != nil {
		return nil, err
	}
	switch files, err := c.values(ctx, talk, "configuration-files"); {
	case err != nil:
		return nil, err
	case files == nil: // it takes no part in backups
		return nil, device.ErrUnsupported
	}
	if err := c.start(ctx, bacnet.StartBackup, bacnet.EndBackup); err != nil {
		return nil, err
	}
	defer func() {
		if ended := c.end(ctx, bacnet.EndBackup); err == nil {
			err = ended
		}
	}()
	files, err := c.prepared(ctx)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	out := tar.NewWriter(&b)
	for _, file := range files {
		raw, err := talk.ReadAll(ctx, file, maxBackup-b.Len())
		if err != nil {
			return nil, Because(err)
		}
		head := &tar.Header{
			Name:   file.String(),
			Mode:   0o600,
			Size:   int64(len(raw)),
			Format: tar.FormatUSTAR,
		}
		if err := out.WriteHeader(head); err != nil {
			return nil, err
		}
		if _, err := out.Write(raw); err != nil {
			return nil, err
		}
	}
	err = out.Close()
	return b.Bytes(), err
}

// password is that of ReinitializeDevice; empty: none is known.
func (s *session) password() (string, error) {
	word := s.as.Secrets[PasswordSecret]
	if word != "" && !s.as.PlainBasic {
		return "", device.ErrPlain
	}
	return word, nil
}

// ErrRefusedBefore is returned for a password that the device has refused in the same session.
var ErrRefusedBefore = device.Because(device.BadLogin, "it refused this password before")

// reinitialize does not send a password again that the device has refused.
func (s *session) reinitialize(ctx context.Context, state bacnet.State, password string) error {
	if s.refused {
		return ErrRefusedBefore
	}
	err := s.client.Reinitialize(ctx, state, password)
	var refused *bacnet.RefusalError
	s.refused = errors.As(err, &refused) && refused.IsCode(bacnet.CodePassword)
	return err
}

// start starts a backup or a restore, and waits until the device is ready for it. If it does not
// get ready, and has not refused, undo ends a backup or a restore that it may have started.
func (c config) start(ctx context.Context, state, undo bacnet.State) error {
	word, err := c.password()
	if err != nil {
		return err
	}
	err = c.reinitialize(ctx, state, word)
	if errors.Is(err, ErrRefusedBefore) || errors.As(err, new(*bacnet.RefusalError)) {
		return Because(err)
	}
	if err = Because(err); err == nil {
		err = c.ready(ctx)
	}
	if err != nil {
		_ = c.end(ctx, undo) // a device that is gone ends it itself
	}
	return err
}

// ready waits until the device has prepared for a backup or a restore. One that does not tell is
// ready at once.
func (c config) ready(ctx context.Context) error {
	for until := time.Now().Add(preparesIn); ; {
		now, err := c.number(ctx, c.client, "backup-and-restore-state")
		switch {
		case err != nil:
			return err
		case now == backupFailed || now == restoreFailed:
			return device.Because(device.Refusal, "it cannot prepare for it")
		case now != preparingBackup && now != preparingRestore:
			return nil
		case time.Now().After(until):
			return device.Because(device.NoAnswer, "it prepares for longer than %s", preparesIn)
		}
		if err := wire.Pause(ctx, looksEvery); err != nil {
			return err
		}
	}
}

// end tells the device that a backup or a restore is over, also when ctx is.
func (c config) end(ctx context.Context, state bacnet.State) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), endsWithin)
	defer cancel()
	word, err := c.password()
	if err == nil {
		err = Because(c.reinitialize(ctx, state, word))
	}
	return err
}

// prepared are the configuration files, which a device may list only once a backup has started.
func (c config) prepared(ctx context.Context) (out []bacnet.ObjectID, err error) {
	files, err := c.values(ctx, c.client, "configuration-files")
	for _, v := range files {
		id, is := v.Object()
		if !is || id.Type != bacnet.TypeFile || len(out) == maxFiles {
			return nil, device.Because(device.Malformed, "its configuration files are not files")
		}
		out = append(out, id)
	}
	return out, err
}

// Restore writes the files back. The save is checked before anything is sent; a file that the
// device does not accept aborts the restore.
func (c config) Restore(ctx context.Context, saved []byte) error {
	files, err := unpack(saved)
	if err != nil {
		return err
	}
	if _, err := c.talk(ctx); err != nil {
		return err
	}
	if err := c.start(ctx, bacnet.StartRestore, bacnet.AbortRestore); err != nil {
		return err
	}
	if err := c.write(ctx, files); err != nil {
		_ = c.end(ctx, bacnet.AbortRestore) // a device that is gone ends it itself (153)
		return err
	}
	err = c.end(ctx, bacnet.EndRestore)
	_ = c.Close(ctx) // it may restart now, and take requests of other lengths then
	return err
}

// write writes the files that the device has. One that it could only create is refused.
func (c config) write(ctx context.Context, files []file) error {
	has, err := c.prepared(ctx)
	if err != nil {
		return err
	}
	for _, f := range files {
		if !slices.Contains(has, f.of) {
			return device.Because(device.Refusal, "it has no configuration file %s", f.of)
		}
	}
	for _, f := range files {
		if err := c.writeFile(ctx, f); err != nil {
			return err
		}
	}
	return nil
}

// writeFile writes a file from its start; it is emptied before where the device allows that.
func (c config) writeFile(ctx context.Context, f file) error {
	err := c.client.Write(ctx, f.of.Property("file-size"), bacnet.NumberOf(0), 0)
	if err != nil && !errors.As(err, new(*bacnet.RefusalError)) {
		return Because(err)
	}
	part := c.client.PartOf(false)
	for at := 0; at < len(f.data); at += part {
		data := f.data[at:min(at+part, len(f.data))]
		if err := c.client.WriteFile(ctx, f.of, int64(at), data); err != nil {
			return Because(err)
		}
	}
	return nil
}

type file struct {
	of   bacnet.ObjectID
	data []byte
}

// unpack reads the files of a save.
func unpack(saved []byte) (out []file, err error) {
	in := tar.NewReader(bytes.NewReader(saved))
	for {
		head, err := in.Next()
		if errors.Is(err, io.EOF) && len(out) > 0 {
			return out, nil
		}
		if err != nil || len(out) == maxFiles {
			return nil, errNoBackup
		}
		of, err := bacnet.ParseObject(head.Name)
		if err != nil || of.Type != bacnet.TypeFile || head.Size > maxBackup {
			return nil, errNoBackup
		}
		f := file{of: of}
		if f.data, err = io.ReadAll(io.LimitReader(in, maxBackup)); err != nil {
			return nil, fmt.Errorf("%w: %w", errNoBackup, err)
		}
		out = append(out, f)
	}
}

var errNoBackup = device.Because(device.Refusal, "these are not the files of a backup by BACnet")
