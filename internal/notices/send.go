package notices

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/mail"
	"net/url"
	"strconv"
	"time"

	gomail "github.com/wneessen/go-mail"

	"reshard/internal/core/fault"
	"reshard/internal/line"
	"reshard/internal/records"
)

// The kinds of targets.
const (
	KindWebhook = "webhook"
	KindMail    = "mail"
)

// How the way to a mail server is encrypted.
const (
	overTLS      = "tls"
	overStartTLS = "starttls"
	overNothing  = "none"
)

// patience is how long one target may take.
const patience = 30 * time.Second

// check says what is wrong with a target, and fills in what is usual.
func check(name string, s *records.NoticeSettings, secret string) error {
	bad := func(format string, args ...any) error {
		return fault.New(fault.Invalid, "add target", name, format, args...)
	}
	switch s.Kind {
	case KindWebhook:
		u, err := url.Parse(s.URL)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil:
			return bad("%q is no address; it looks like https://hooks.example/reshard", s.URL)
		case u.Scheme == "http" && !s.Private:
			return bad("%s is not encrypted: everybody on the way could read what goes there", s.URL)
		case len(secret) < 16:
			return bad("what it is signed with must have at least 16 characters")
		}
	case KindMail:
		if _, _, err := net.SplitHostPort(s.Server); err != nil {
			return bad("%q is no mail server; it looks like mail.example:465", s.Server)
		}
		if s.Secure == "" {
			s.Secure = overTLS
		}
		if s.Secure != overTLS && s.Secure != overStartTLS && s.Secure != overNothing ||
			s.Secure == overNothing && !s.Private {
			return bad("the way there is encrypted by tls or starttls; none is for private networks only")
		}
		for _, a := range append([]string{s.From}, s.To...) {
			if _, err := mail.ParseAddress(a); err != nil {
				return bad("%q is no mail address", a)
			}
		}
		if len(s.To) == 0 {
			return bad("it is not said to whom")
		}
	default:
		return bad("%q is no kind of target; webhook and mail are", s.Kind)
	}
	return nil
}

// signatureLabel and keyID are what a signature is known by.
const (
	signatureLabel = "reshard"
	keyID          = "reshard"
)

// sign signs a request as RFC 9421 describes, with hmac-sha256 and the digest of RFC 9530: whoever has the secret
// can tell that it comes from here, is whole, and when it was made.
func sign(r *http.Request, body []byte, secret string, at time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;keyid="%s";alg="hmac-sha256"`,
		at.Unix(), keyID)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		r.Method, r.URL, digest, params)
	mac := hmac.New(sha256.New, []byte(secret))
	_, _ = mac.Write([]byte(base)) // it never fails (hash.Hash)
	r.Header.Set("Content-Digest", digest)
	r.Header.Set("Signature-Input", signatureLabel+"="+params)
	r.Header.Set("Signature", signatureLabel+"=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}

// mostHeaders bounds the headers of an answer, in bytes.
const mostHeaders = 64 << 10

// post tells a webhook.
func (n *Notices) post(ctx context.Context, t records.NoticeTarget, secret string, notice Notice) error {
	s := t.Settings.V
	body, err := json.Marshal(notice)
	if err != nil {
		return fault.Wrap(fault.Internal, "tell", t.Name, err)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.URL, bytes.NewReader(body))
	if err != nil {
		return fault.Wrap(fault.Invalid, "tell", t.Name, err)
	}
	r.Header.Set("Content-Type", "application/json")
	sign(r, body, secret, n.now())
	client := &http.Client{
		Transport: &http.Transport{
			DialContext: line.Dialer(s.Private).DialContext, TLSHandshakeTimeout: line.DialPatience,
			DisableKeepAlives:      true,
			MaxResponseHeaderBytes: mostHeaders,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	res, err := client.Do(r)
	if line.LongHeaders(err) {
		return line.Misbehaves("tell", t.Name, line.Exceeds("headers of more than %d kB", mostHeaders>>10))
	} else if err != nil {
		return unreached(t.Name, err)
	}
	defer res.Body.Close() //nolint:errcheck // only read
	_, _ = io.CopyN(io.Discard, res.Body, 64<<10)
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return fault.New(fault.Refused, "tell", t.Name, "it answers %s", res.Status).
			With("Look at what takes the notices there.")
	}
	return nil
}

func unreached(name string, err error) error {
	return &fault.Error{
		Code: fault.Unreachable, Op: "tell", Path: name, What: line.Words(err), Err: err,
		Next: "Look at its address. An address of a private network needs --private.",
	}
}

// mail tells by mail.
func (n *Notices) mail(ctx context.Context, t records.NoticeTarget, secret string, notice Notice) error {
	s := t.Settings.V
	host, portText, err := net.SplitHostPort(s.Server)
	if err != nil {
		return fault.Wrap(fault.Invalid, "tell", t.Name, err)
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return fault.Wrap(fault.Invalid, "tell", t.Name, err)
	}
	m := gomail.NewMsg()
	if err := errors.Join(m.From(s.From), m.To(s.To...)); err != nil {
		return fault.Wrap(fault.Invalid, "tell", t.Name, err)
	}
	m.Subject("Reshard: " + map[string]string{
		"began": "needs you: ",
		"ended": "well again: ",
		"test":  "",
	}[notice.Event] + notice.Of)
	m.SetDateWithValue(n.now())
	m.SetMessageID()
	m.SetBodyString(gomail.TypeTextPlain, text(notice))
	plain := line.Dialer(s.Private)
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := plain.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &line.Bound{Conn: conn, Lines: s.Secure == overNothing}, nil
	}
	options := []gomail.Option{
		gomail.WithPort(port), gomail.WithTimeout(patience),
		gomail.WithTLSConfig(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}),
	}
	switch s.Secure {
	case overTLS:
		options = append(options, gomail.WithSSL(), gomail.WithDialContextFunc(
			func(ctx context.Context, network, address string) (net.Conn, error) {
				conn, err := dial(ctx, network, address)
				if err != nil {
					return nil, err
				}
				over := tls.Client(conn, &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})
				if err := over.HandshakeContext(ctx); err != nil {
					_ = conn.Close() // the error tells more
					return nil, err
				}
				return over, nil
			}))
	case overStartTLS:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory),
			gomail.WithDialContextFunc(dial))
	default:
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS), gomail.WithDialContextFunc(dial))
	}
	if s.User != "" {
		kind := gomail.SMTPAuthAutoDiscover
		if s.Secure == overNothing {
			kind = gomail.SMTPAuthPlainNoEnc
		}
		options = append(options, gomail.WithSMTPAuth(kind), gomail.WithUsername(s.User), gomail.WithPassword(secret))
	}
	c, err := gomail.NewClient(host, options...)
	if err != nil {
		return fault.Wrap(fault.Invalid, "tell", t.Name, err)
	}
	if err := c.DialAndSendWithContext(ctx, m); err != nil {
		if bad := line.Misbehaves("tell", t.Name, err); bad != nil {
			return bad
		}
		return &fault.Error{
			Code: fault.Unreachable, Op: "tell", Path: t.Name,
			What: "the mail server does not take it: " + line.Scrub(err.Error(), secret),
			Next: "Look at the server's address, the account and how the way there is encrypted.",
		}
	}
	return nil
}

// text is a notice in words.
func text(n Notice) string {
	switch n.Event {
	case "ended":
		return "It is well again:\n\n" + n.Says + "\n"
	case "test":
		return n.Says + "\n"
	}
	return n.Says + "\n\nSince " + n.Since.UTC().Format("2 January 2006 15:04 MST") + ".\nNext: " + n.Next + "\n"
}
