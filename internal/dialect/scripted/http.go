package scripted

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"time"

	"catena/internal/device"
	"catena/internal/family"
	"catena/internal/wire"
)

// httpCarrier sends steps over HTTP. A challenge of the device (RFC 7616, 7617) is answered with
// the login, once for each request, and never while it is being recognised.
type httpCarrier struct {
	session *session
	place   *place
	http    *wire.HTTP
	auth    wire.HTTPAuth
	cookies http.CookieJar // RFC 6265; those of this session only
}

func newHTTP(s *session, p *place) *httpCarrier {
	jar, _ := cookiejar.New(nil) // without a list of public suffixes it cannot fail
	return &httpCarrier{session: s, place: p, http: wire.NewHTTP(p.at.Trust).With(p.as), cookies: jar,
		auth: wire.HTTPAuth{As: p.as, Secure: p.at.Secure()}}
}

func (c *httpCarrier) close() {}

func (c *httpCarrier) ask(ctx context.Context, _ *family.Step, f family.Filled,
	image *cargo) (family.Answer, error) {
	for answered := false; ; answered = true {
		r, err := http.NewRequest(f.Method, c.place.at.URL(f.Target), bytes.NewReader(f.Body))
		if err != nil {
			return family.Answer{}, device.Because(device.Refusal, "%v", err)
		}
		for name := range f.Header {
			r.Header.Set(name, f.Header.Get(name))
		}
		if r.Header.Get("Accept") == "" {
			r.Header.Set("Accept", "application/json, */*;q=0.5")
		}
		if len(f.Body) == 0 {
			r.Body, r.ContentLength = http.NoBody, 0
		}
		signed := c.session.stage != recognising && r.Header.Get("Authorization") == "" &&
			c.auth.Challenged()
		if signed {
			if err := c.auth.Sign(r); err != nil {
				return family.Answer{}, err
			}
		}
		for _, cookie := range c.cookies.Cookies(r.URL) {
			r.AddCookie(cookie)
		}
		a, err := c.send(ctx, r, f, image)
		if err != nil {
			return family.Answer{}, err
		}
		if at, err := http.ParseTime(a.Header.Get("Date")); err == nil {
			c.session.ahead, c.session.dated = time.Until(at), true
		}
		c.cookies.SetCookies(r.URL, (&http.Response{Header: a.Header}).Cookies())
		refused := a.Status == http.StatusUnauthorized && c.session.stage != recognising
		switch {
		case refused && f.Secret && !signed:
			// it carried the login itself: no second attempt in another form
		case refused && wire.Challenges(a.Header) && !answered:
			if err := c.auth.Take(a.Header); err != nil {
				return family.Answer{}, err
			}
			continue
		case refused && signed:
			return family.Answer{}, device.ErrLoginRefused
		case signed:
			c.auth.Accepted()
		}
		return family.Answer{Status: a.Status, Header: a.Header, Body: a.Body}, nil
	}
}

func (c *httpCarrier) send(ctx context.Context, r *http.Request, f family.Filled,
	image *cargo) (wire.Answer, error) {
	if image == nil {
		return c.http.Ask(ctx, r)
	}
	if r.Header.Get("Content-Type") == "" {
		r.Header.Set("Content-Type", "application/octet-stream")
	}
	if image.pieces || image.from > 0 || image.to < image.Size { // also of an image of one piece
		r.Header.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", image.from, image.to-1,
			image.Size))
	}
	body := wire.Envelope{Before: f.Body, Image: io.NewSectionReader(image, image.from,
		image.to-image.from), After: f.Tail}
	sent := body.Counts(func(n int64) {
		if image.sent != nil {
			image.sent(image.from + n)
		}
	})
	return c.http.Send(ctx, r, wire.Body{From: body, Size: body.Size(), Sent: sent})
}
