package hostile

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Peer is a machine that the service is told to reach, and that harms it: it sends without end.
type Peer struct {
	Name string
	// speak serves one connection of the service.
	speak func(net.Conn)
	// Asks are the requests that have the service reach it; at is its port.
	Asks func(at int) []Request
}

// Request is one of the API.
type Request struct {
	Method, Path string
	Body         any
}

// Peers gives every peer.
func Peers() []Peer {
	return []Peer{
		{"ftp/a greeting without an end, before TLS", forever("220 " + rep("x", 4096)), func(at int) []Request {
			return hosts("ftp", at, "")
		}},
		{"ftp/a greeting without an end", forever("220 " + rep("x", 4096)), func(at int) []Request {
			return hosts("ftp", at, "none")
		}},
		{"ftp/lines without an end", forever("220-" + rep("x", 60) + "\r\n"), func(at int) []Request {
			return hosts("ftp", at, "none")
		}},
		{"ftp/a listing without an end", liarFTP, func(at int) []Request { return hosts("ftp", at, "none") }},
		{"sftp/a listing without an end", liarSFTP, func(at int) []Request { return hosts("sftp", at, "") }},
		{"sftp/a banner without an end", forever("SSH-" + rep("x", 4096)), func(at int) []Request {
			return hosts("sftp", at, "")
		}},
		{"mail/a line without an end", forever("220 " + rep("x", 4096)), mailed},
		{"mail/lines without an end", forever("220-" + rep("x", 60) + "\r\n"), mailed},
		{"s3/a listing without an end", liarS3("list-type="), stored},
		{"s3/an object without an end", liarS3("GET"), stored},
		{"s3/a header without an end", forever(longHeader), stored},
		{"provider/an answer without an end", rented("HTTP/1.1 200 OK\r\n\r\n{\"is\": \"" + rep("x", 4096)), hired},
		{"provider/a header without an end", rented(longHeader), hired},
		{"webhook/a header without an end", forever(longHeader), hooked},
	}
}

var longHeader = "HTTP/1.1 200 OK\r\nX-A: " + rep("x", 4096)

// forever writes something again and again, whatever it is asked.
func forever(what string) func(net.Conn) {
	return func(c net.Conn) {
		go func() { _, _ = io.Copy(io.Discard, c) }() // what is asked does not matter
		for {
			if _, err := io.WriteString(c, what); err != nil {
				return
			}
		}
	}
}

// hosts has the service know a host, and add a server there.
func hosts(scheme string, at int, tls string) []Request {
	name := fmt.Sprintf("liar%d", at)
	host := map[string]any{
		"name": name, "address": fmt.Sprintf("%s://warden@127.0.0.1:%d", scheme, at), "folder": "/",
		"signIn": map[string]string{"password": "plain words"},
	}
	if tls != "" {
		host["tls"] = tls
	}
	if scheme == "sftp" {
		host["acceptKey"] = ssh.FingerprintSHA256(hostKey.PublicKey())
	}
	return []Request{
		{http.MethodPost, "/hosts", host},
		{http.MethodPost, "/servers", map[string]any{
			"name": name, "host": name, "game": "quarrymoss", "kind": "plain", "root": "/server",
			"control": map[string]string{"by": "hand"},
		}},
	}
}

func mailed(at int) []Request {
	return []Request{{http.MethodPost, "/notice-targets", map[string]any{
		"name": fmt.Sprintf("liar%d", at), "kind": "mail", "server": fmt.Sprintf("127.0.0.1:%d", at), "secure": "none",
		"private": true, "from": "a@mill.example", "to": []string{"b@mill.example"},
	}}}
}

func hooked(at int) []Request {
	return []Request{{http.MethodPost, "/notice-targets", map[string]any{
		"name": fmt.Sprintf("liar%d", at), "kind": "webhook", "url": fmt.Sprintf("http://127.0.0.1:%d/", at),
		"private": true, "secret": "leeks and marrows and peas",
	}}}
}

// hired has the service know a host whose provider the peer is, and look at a machine there.
func hired(at int) []Request {
	name := fmt.Sprintf("liar%d", at)
	const description = `
reshard: provider/1
id: liar
title: Liar
sign-in: {header: {name: Authorization, value: "Bearer {secret}"}}
state: {request: {get: "/machines/{machine}"}, word: {pick: /is}, running: [up], stopped: [down]}
start: {request: {post: "/machines/{machine}/start"}}
`
	return []Request{
		hosts("ftp", at, "none")[0],
		{http.MethodPut, "/hosts/" + name + "/provider", map[string]any{
			"description": description, "origin": fmt.Sprintf("http://127.0.0.1:%d", at), "secret": "plain words",
			"private": true,
		}},
		{http.MethodGet, "/hosts/" + name + "/provider/try?machine=1", nil},
	}
}

func stored(at int) []Request {
	return []Request{{http.MethodPost, "/stores", map[string]any{
		"name": fmt.Sprintf("liar%d", at), "kind": "s3", "endpoint": fmt.Sprintf("http://127.0.0.1:%d", at),
		"bucket": "b", "user": "key", "secret": "plain words", "private": true,
	}}}
}

// liarFTP is an FTP server whose folders have names without an end.
func liarFTP(c net.Conn) {
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(c, format+"\r\n", args...) }
	say("220 at your service")
	var data net.Listener
	in := bufio.NewScanner(c)
	for in.Scan() {
		verb, _, _ := strings.Cut(strings.ToUpper(in.Text()), " ")
		switch verb {
		case "USER":
			say("331 and the password")
		case "PASS":
			say("230 welcome")
		case "FEAT":
			say("211-these\r\n MLST type*;size*;modify*;\r\n211 end")
		case "CWD", "CDUP":
			say("250 there")
		case "PWD":
			say(`257 "/"`)
		case "EPSV":
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return
			}
			data = l
			say("229 here (|||%d|)", l.Addr().(*net.TCPAddr).Port)
		case "MLSD", "LIST":
			say("150 here it comes")
			if conn, err := data.Accept(); err == nil {
				forever("type=file;size=1;modify=20260101000000; " + rep("n", 40) + "\r\n")(conn)
				_ = conn.Close()
			}
			_ = data.Close()
			say("226 that was all")
		case "QUIT":
			say("221 bye")
			return
		case "RNFR", "MDTM", "SIZE", "RETR":
			say("550 no")
		default:
			say("200 yes")
		}
	}
}

// rented is an FTP server that also answers as a provider does, without an end: over HTTP it is the other who speaks
// first.
func rented(answer string) func(net.Conn) {
	return func(c net.Conn) {
		first := make([]byte, 4096)
		_ = c.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
		n, _ := c.Read(first)
		_ = c.SetReadDeadline(time.Time{})
		if n > 0 {
			forever(answer)(c)
			return
		}
		liarFTP(c)
	}
}

// hostKey is that of the SFTP server; it is no secret.
var hostKey = func() ssh.Signer {
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed([]byte(rep("k", ed25519.SeedSize))))
	if err != nil {
		panic(err) // a seed of this length makes a key
	}
	return signer
}()

// liarSFTP is an SSH server with files alone, whose folders have names without an end.
func liarSFTP(c net.Conn) {
	config := &ssh.ServerConfig{PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
		return nil, nil
	}}
	config.AddHostKey(hostKey)
	_, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for asked := range channels {
		channel, asks, err := asked.Accept()
		if err != nil {
			return
		}
		go func() {
			for ask := range asks {
				files := ask.Type == "subsystem"
				_ = ask.Reply(files, nil)
				if files {
					go namesForever(channel)
				} else {
					_ = channel.Close()
				}
			}
		}()
	}
}

// namesAtOnce is how many names one answer has: about as many as the longest packet holds.
const namesAtOnce = 5000

// namesForever speaks SFTP, version 3 (draft-ietf-secsh-filexfer-02): everything is a folder with names without an end.
func namesForever(rw io.ReadWriter) {
	in := bufio.NewReader(rw)
	number := binary.BigEndian.AppendUint32
	text := func(b []byte, s string) []byte { return append(number(b, uint32(len(s))), s...) }
	folder := func(b []byte) []byte { return number(number(b, 4), 0o40755) } // attributes with a mode alone
	answer := func(kind byte, rest []byte) {
		_, _ = rw.Write(append(append(number(nil, uint32(len(rest)+1)), kind), rest...))
	}
	for {
		var head [5]byte
		if _, err := io.ReadFull(in, head[:]); err != nil {
			return
		}
		body := make([]byte, binary.BigEndian.Uint32(head[:])-1)
		if _, err := io.ReadFull(in, body); err != nil || len(body) < 4 {
			return
		}
		id := body[:4:4]
		switch head[4] {
		case 1: // init
			answer(2, number(nil, 3))
		case 16: // real path
			answer(104, folder(text(text(number(id, 1), "/server"), "")))
		case 7, 17, 8: // attributes
			answer(105, folder(id))
		case 11: // open a folder
			answer(102, text(id, rep("h", 1000))) // longer than the protocol allows
		case 12: // read it
			names := number(id, namesAtOnce)
			for n := range namesAtOnce {
				names = folder(text(text(names, fmt.Sprintf("n%d", n)), ""))
			}
			answer(104, names)
		case 4: // close
			answer(101, text(text(number(id, 0), ""), ""))
		default:
			answer(101, text(text(number(id, 4), "no"), ""))
		}
	}
}

// liarS3 answers some requests of S3 without an end, of which the beginning holds something; of others it has nothing.
func liarS3(some string) func(net.Conn) {
	return func(c net.Conn) {
		in := bufio.NewReader(c)
		for {
			r, err := http.ReadRequest(in)
			if err != nil {
				return
			}
			_, _ = io.Copy(io.Discard, r.Body)
			if !strings.Contains(r.Method+" "+r.URL.String(), some) {
				const none = `<?xml version="1.0"?><Error><Code>NoSuchKey</Code></Error>`
				_, _ = fmt.Fprintf(c, "HTTP/1.1 404 Not Found\r\nContent-Length: %d\r\n\r\n%s", len(none), none)
				continue
			}
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Type: application/xml\r\nConnection: close\r\n\r\n"+
				`<?xml version="1.0"?><ListBucketResult><IsTruncated>false</IsTruncated>`)
			forever("<Contents><Key>packs/" + rep("n", 40) + "</Key><Size>1</Size></Contents>")(c)
			return
		}
	}
}

// Listen has a peer listen on a free port, until it is ended.
func (p Peer) Listen() (port int, end func() error, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, nil, err
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close() //nolint:errcheck // it ends whatever the outcome
				p.speak(c)
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port, l.Close, nil
}

// Meet has the service reach a peer in each of its ways, and gives what that cost beyond idle, with the last answer.
func (s *Service) Meet(ctx context.Context, p Peer, idle int64) (Cost, error) {
	port, end, err := p.Listen()
	if err != nil {
		return Cost{}, err
	}
	defer end() //nolint:errcheck // it has been met
	return s.cost(ctx, idle, func() (status int, answer []byte, err error) {
		for _, r := range p.Asks(port) {
			body, err := json.Marshal(r.Body)
			if err != nil {
				return 0, nil, err
			}
			status, answer, err = s.Ask(ctx, r.Method, r.Path, "application/json", body)
			if err != nil || status >= http.StatusMultipleChoices {
				return status, answer, err
			}
		}
		return status, answer, nil
	})
}
