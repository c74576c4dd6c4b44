package shelf

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"time"
)

// FeedSource makes a source absolute, so that it means the same tomorrow. Only
// HTTPS is a web address.
func FeedSource(source string) (string, error) {
	if u, err := url.Parse(source); err == nil && strings.Contains(source, "://") {
		if u.Scheme != "https" || u.Host == "" {
			return "", fmt.Errorf("%s: a feed is a folder or an https:// address", source)
		}
		return strings.TrimSuffix(source, "/"), nil
	}
	return filepath.Abs(source)
}

// FeedClient returns a client that fetches over HTTPS, and follows no redirect to another host. ca
// are certificates to trust besides those of the system, as PEM; empty: none.
func FeedClient(ca string) (*http.Client, error) {
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	if ca != "" && !roots.AppendCertsFromPEM([]byte(ca)) {
		return nil, errors.New("it contains no certificate")
	}
	return &http.Client{
		Transport: &http.Transport{Proxy: http.ProxyFromEnvironment,
			TLSClientConfig:       &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12},
			ResponseHeaderTimeout: 30 * time.Second, DisableCompression: true},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 5 || r.URL.Host != via[0].URL.Host || r.URL.Scheme != "https" {
				return fmt.Errorf("it redirects to %s, which is not followed", r.URL.Host)
			}
			return nil
		},
	}, nil
}
