package place

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"

	"catena/internal/office"
)

// The record of a site at an office is a stream of NATS JetStream. A file is in parts, each a
// message with a subject of its own that is never written twice:
//
//	site.SITE.FOLDER.….FILE.PARTS.PART
//
// so that a transfer continues at the first part that is missing, and a file is there once all of
// its parts are. Characters that a subject must not have stand as =2E.
type atOffice struct {
	conn   *nats.Conn
	own    bool // conn is closed with it
	stream jetstream.Stream
	js     jetstream.JetStream
	prefix string
	ctx    context.Context
}

const (
	partSize   = 2 << 20
	mostParts  = 1 << 14
	officeWait = 30 * time.Second // for one answer
	officeTrys = 5                // of one request, where the connection is bad
)

// What can be wrong with an office; callers test with errors.Is.
var (
	// ErrCredentials is returned where the office does not accept credentials.
	ErrCredentials = errors.New(
		"the office does not accept these credentials: they have expired, or the " +
			"site was removed",
	)
	// ErrOtherOffice is returned where another server answers at the address of an office.
	ErrOtherOffice = errors.New(
		"another server answers at the address of the office: its certificate is " +
			"not the one that the credentials name",
	)
	// ErrNoRecord is returned where the office has no record for a site.
	ErrNoRecord = errors.New("the office has no record for this site")
	// ErrUnreachable is returned where no office answers.
	ErrUnreachable = errors.New(
		"the office cannot be reached; check that it runs, and that this network leads " +
			"there",
	)
	// ErrOfficeDisk is returned where the machine of the office has no more room.
	ErrOfficeDisk = errors.New("the disk of the office is full; make room there")
	// ErrOfficeFull is returned where the record of a site has no more room.
	ErrOfficeFull = errors.New("the record of this site at the office is full")
)

// OpenOffice opens the record of a site at an office, as a place.
func OpenOffice(ctx context.Context, c office.Credentials) (Place, error) {
	within, cancel := context.WithTimeout(ctx, openWithin)
	defer cancel()
	conn, err := dialOffice(ctx, c, officeWait, func(err error) {
		if errors.Is(err, nats.ErrPermissionViolation) {
			cancel() // no answer will come
		}
	})
	if err != nil {
		return nil, err
	}
	at, err := atSite(ctx, within, conn, c.Site)
	if err != nil {
		if errors.Is(conn.LastError(), nats.ErrPermissionViolation) {
			err = ErrCredentials // they are for another site
		}
		conn.Close()
		return nil, err
	}
	at.own = true
	return at, nil
}

// AtOffice is the record of a site, as a place, over a connection that stays open when it is
// closed: for whoever looks at many sites.
func AtOffice(ctx context.Context, conn *nats.Conn, site string) (Place, error) {
	within, cancel := context.WithTimeout(ctx, openWithin)
	defer cancel()
	return atSite(ctx, within, conn, site)
}

func atSite(ctx, within context.Context, conn *nats.Conn, site string) (*atOffice, error) {
	js, err := jetstream.New(conn, jetstream.WithDefaultTimeout(officeWait))
	if err != nil {
		return nil, err
	}
	var stream jetstream.Stream
	for { // of an office on several machines, the one that was asked may just have gone
		ask, cancel := context.WithTimeout(within, askWithin)
		stream, err = js.Stream(ask, office.Stream(site))
		cancel()
		if err == nil || within.Err() != nil || ask.Err() == nil {
			break
		}
	}
	if err != nil {
		return nil, officeFault(err)
	}
	return &atOffice{conn, false, stream, js, office.Subject(site), ctx}, nil
}

// openWithin is how long an office may take to say that it has the record of a site, and askWithin
// when it is asked once more.
const (
	openWithin = 20 * time.Second
	askWithin  = 4 * time.Second
)

// DialOffice connects to the server of an office, within a time. It is the office that the
// credentials name, or an error: ErrOtherOffice, ErrCredentials, or one of the connection.
func DialOffice(ctx context.Context, c office.Credentials, within time.Duration) (*nats.Conn,
	error) {
	return dialOffice(ctx, c, within, func(error) {}) // requests fail, too
}

// dialOffice is DialOffice, with what is told of errors that belong to no request.
func dialOffice(ctx context.Context, c office.Credentials, within time.Duration,
	fault func(error)) (*nats.Conn, error) {
	key, err := nkeys.FromSeed([]byte(c.Seed))
	if err != nil {
		return nil, fmt.Errorf("the credentials for %s are damaged: %w", c.Office, err)
	}
	other := false
	conn, err := nats.Connect("tls://"+strings.Join(office.Addresses(c.Address), ",tls://"),
		nats.Name("catena"), nats.Timeout(within), nats.MaxReconnects(-1),
		nats.CustomInboxPrefix(office.Inbox(c.Site)), nats.NoCallbacksAfterClientClose(),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { fault(err) }),
		nats.UserJWT(func() (string, error) { return c.Token, nil },
			func(nonce []byte) ([]byte, error) { return key.Sign(nonce) }),
		nats.Secure(&tls.Config{MinVersion: tls.VersionTLS13,
			InsecureSkipVerify: true, // the certificate is known by its digest instead
			VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
				if len(raw) == 0 || office.Fingerprint(raw[0]) != c.Certificate {
					other = true
					return ErrOtherOffice
				}
				return nil
			}}))
	switch {
	case other:
		return nil, fmt.Errorf("%s: %w", c.Address, ErrOtherOffice)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", c.Address, officeFault(err))
	}
	context.AfterFunc(ctx, conn.Close)
	return conn, nil
}

// officeFault is the error of this package for one of the server.
func officeFault(err error) error {
	var api *jetstream.APIError
	switch {
	case errors.Is(err, nats.ErrAuthorization), errors.Is(err, nats.ErrAuthExpired),
		errors.Is(err, nats.ErrAuthRevoked), errors.Is(err, nats.ErrPermissionViolation):
		return ErrCredentials
	case errors.Is(err, nats.ErrNoServers), errors.Is(err, context.DeadlineExceeded):
		return ErrUnreachable
	case errors.Is(err, jetstream.ErrStreamNotFound), errors.Is(err, nats.ErrNoResponders),
		errors.Is(err, jetstream.ErrNoStreamResponse):
		return ErrNoRecord
	case errors.As(err, &api) && strings.Contains(api.Description, bytesExceeded):
		return ErrOfficeFull
	case err != nil && strings.Contains(err.Error(), noSpace):
		return ErrOfficeDisk
	}
	return err
}

// Errors of the server that its codes do not tell apart: a record is full, a part is there, and the
// disk is full. A part that is there has the same content, since its name depends on that.
const (
	bytesExceeded = "maximum bytes exceeded"
	partExceeded  = "maximum messages per subject exceeded"
	noSpace       = "no space left on device"
)

// subject is that of a folder or file.
func (p *atOffice) subject(file string) string {
	var b strings.Builder
	b.WriteString(p.prefix)
	for part := range strings.SplitSeq(file, "/") {
		if part == "" {
			continue
		}
		b.WriteByte('.')
		for _, c := range []byte(part) {
			if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' {
				b.WriteByte(c)
			} else {
				fmt.Fprintf(&b, "=%02X", c)
			}
		}
	}
	return b.String()
}

// name turns a token of a subject round; empty: it is not one of ours.
func name(token string) string {
	var b strings.Builder
	for i := 0; i < len(token); i++ {
		if token[i] != '=' {
			b.WriteByte(token[i])
			continue
		}
		if i+2 >= len(token) {
			return ""
		}
		n, err := strconv.ParseUint(token[i+1:i+3], 16, 8)
		if err != nil {
			return ""
		}
		b.WriteByte(byte(n))
		i += 2
	}
	return b.String()
}

// subjects are those below one, each without it.
func (p *atOffice) subjects(of string) (out []string, err error) {
	err = p.again(func(ctx context.Context) error {
		info, err := p.stream.Info(ctx, jetstream.WithSubjectFilter(of+".>"))
		if err != nil {
			return err
		}
		out = nil
		for s := range info.State.Subjects {
			out = append(out, strings.TrimPrefix(s, of+"."))
		}
		return nil
	})
	return out, err
}

// again repeats a request where the connection is bad.
func (p *atOffice) again(do func(context.Context) error) (err error) {
	for try := range officeTrys {
		ctx, cancel := context.WithTimeout(p.ctx, officeWait)
		err = do(ctx)
		cancel()
		if err == nil || p.ctx.Err() != nil || !errors.Is(err, nats.ErrTimeout) &&
			!errors.Is(err, context.DeadlineExceeded) && !errors.Is(err, nats.ErrDisconnected) &&
			!errors.Is(err, nats.ErrConnectionReconnecting) {
			break
		}
		select {
		case <-p.ctx.Done():
		case <-time.After(time.Duration(try+1) * time.Second):
		}
	}
	if p.ctx.Err() != nil {
		return p.ctx.Err()
	}
	if err != nil && p.conn.LastError() != nil &&
		errors.Is(officeFault(p.conn.LastError()), ErrCredentials) {
		return ErrCredentials
	}
	return officeFault(err)
}

func (p *atOffice) Names(in string) (out []string, err error) {
	all, err := p.subjects(p.subject(in))
	if err != nil {
		return nil, err
	}
	parts := map[string]int{} // of files: how many are missing
	for _, s := range all {
		tokens := strings.Split(s, ".")
		n := name(tokens[0])
		switch {
		case n == "" || len(tokens) < 3:
		case len(tokens) > 3: // a folder
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		default:
			if total, err := strconv.Atoi(tokens[1]); err == nil && total > 0 {
				if _, known := parts[n]; !known {
					parts[n] = total
				}
				parts[n]--
			}
		}
	}
	for n, missing := range parts {
		if missing == 0 {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out, nil
}

// stored returns how many parts a file has, and those that are there.
func (p *atOffice) stored(subject string) (total int, there map[int]bool, err error) {
	all, err := p.subjects(subject)
	there = map[int]bool{}
	for _, s := range all {
		parts, part, _ := strings.Cut(s, ".")
		n, err1 := strconv.Atoi(parts)
		k, err2 := strconv.Atoi(part)
		if err1 != nil || err2 != nil || n < 1 || n > mostParts || k < 1 || k > n ||
			total != 0 && n != total {
			return 0, nil, fmt.Errorf("%s has parts that do not fit together", subject)
		}
		total, there[k] = n, true
	}
	return total, there, err
}

const digestHeader = "Catena-SHA256"

func (p *atOffice) Get(file string, from int64) (io.ReadCloser, error) {
	subject := p.subject(file)
	total, there, err := p.stored(subject)
	if err != nil {
		return nil, err
	}
	if total == 0 || len(there) < total {
		return nil, fs.ErrNotExist
	}
	r := &partReader{place: p, subject: subject, total: total, next: int(from/partSize) + 1}
	if skip := from % partSize; skip > 0 {
		if _, err = io.CopyN(io.Discard, r, skip); errors.Is(err, io.EOF) {
			err = nil // it ends there
		}
	}
	return r, err
}

// partReader reads the parts of a file, each verified by the digest that it was sent with.
type partReader struct {
	place       *atOffice
	subject     string
	total, next int
	part        []byte
	closed      bool
}

func (r *partReader) Read(b []byte) (int, error) {
	for len(r.part) == 0 {
		if r.closed || r.next > r.total {
			return 0, io.EOF
		}
		err := r.place.again(func(ctx context.Context) error {
			m, err := r.place.stream.GetLastMsgForSubject(
				ctx,
				fmt.Sprintf("%s.%d.%d", r.subject, r.total, r.next),
			)
			if err != nil {
				return err
			}
			sum := sha256.Sum256(m.Data)
			if m.Header.Get(digestHeader) != hex.EncodeToString(sum[:]) {
				return fmt.Errorf("part %d of %s is damaged at the office", r.next, r.subject)
			}
			r.part = m.Data
			return nil
		})
		if err != nil {
			return 0, err
		}
		r.next++
	}
	n := copy(b, r.part)
	r.part = r.part[n:]
	return n, nil
}

func (r *partReader) Close() error {
	r.closed = true
	return nil
}

func (p *atOffice) Put(file string, from io.ReadSeeker) error {
	size, err := from.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	total := max(1, int((size+partSize-1)/partSize))
	if total > mostParts {
		return fmt.Errorf("%s has more than %d parts", file, mostParts)
	}
	subject := p.subject(file)
	_, there, err := p.stored(subject)
	if err != nil {
		return err
	}
	buffer := make([]byte, partSize)
	for part := 1; part <= total; part++ {
		if there[part] {
			continue
		}
		if _, err := from.Seek(int64(part-1)*partSize, io.SeekStart); err != nil {
			return err
		}
		n, err := io.ReadFull(from, buffer)
		if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
			return err
		}
		sum := sha256.Sum256(buffer[:n])
		m := nats.NewMsg(fmt.Sprintf("%s.%d.%d", subject, total, part))
		m.Data = bytes.Clone(buffer[:n])
		m.Header.Set(digestHeader, hex.EncodeToString(sum[:]))
		err = p.again(func(ctx context.Context) error {
			_, err := p.js.PublishMsg(ctx, m)
			if err != nil && strings.Contains(err.Error(), partExceeded) {
				return nil
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// PutFirst is First's: a subject takes one message, so that the first one stays.
func (p *atOffice) PutFirst(file string, content []byte) (first []byte, err error) {
	if err := p.Put(file, bytes.NewReader(content)); err != nil {
		return nil, err
	}
	r, err := p.Get(file, 0)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, mostFirst))
}

// mostFirst is how much is read of what another machine may have written first, in bytes.
const mostFirst = 1 << 10

func (p *atOffice) Close() {
	if p.own {
		p.conn.Close()
	}
}
