package ftp_test

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"strconv"
	"testing"
	"time"

	ftpserver "github.com/fclairamb/ftpserverlib"
	"github.com/spf13/afero"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/account"
	"reshard/internal/core/capability"
	"reshard/internal/ftplink"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/ftp"
	"reshard/internal/hostfs/hostfstest"
)

// precise is a server whose listings programs can read (MLSD), and that sets times (MFMT).
type precise struct {
	ftpserver.MainDriver
	listener net.Listener
}

func (p *precise) GetSettings() (*ftpserver.Settings, error) {
	return &ftpserver.Settings{Listener: p.listener, PublicHost: "127.0.0.1", DisableActiveMode: true}, nil
}

func (p *precise) ClientConnected(ftpserver.ClientContext) (string, error) { return "hello", nil }
func (p *precise) ClientDisconnected(ftpserver.ClientContext)              {}
func (p *precise) AuthUser(_ ftpserver.ClientContext, user, pass string) (ftpserver.ClientDriver, error) {
	if user != "bram" || pass != "secret" {
		return nil, errors.New("no")
	}
	return afero.NewOsFs(), nil
}
func (p *precise) GetTLSConfig() (*tls.Config, error) { return nil, errors.New("none") }

func TestConformanceOfPreciseListings(t *testing.T) {
	t.Parallel()
	p := &precise{}
	var err error
	p.listener, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := ftpserver.NewFtpServer(p)
	require.NoError(t, server.Listen())
	go func() { _ = server.Serve() }() // Stop ends it
	t.Cleanup(func() { _ = server.Stop() })
	_, port, err := net.SplitHostPort(p.listener.Addr().String())
	require.NoError(t, err)
	n, err := strconv.Atoi(port)
	require.NoError(t, err)
	hostfstest.Run(t, hostfstest.Harness{
		Can: capability.Set{
			AtomicReplace: true, RenameFolders: true, ExactCase: true, AnyName: true, TimePrecision: time.Second,
			Pace: 500 * time.Millisecond, AtOnce: 4, Costly: true,
		},
		Untold: []string{"new\nline"},
		Open: func(t *testing.T) hostfs.Driver {
			l := ftplink.New(account.Account{
				Name: "precise", Protocol: "ftp", TLS: account.NoTLS, Host: "127.0.0.1", Port: n, User: "bram",
				Sessions: 4,
				Key:      ftplink.NoTLS, Secrets: account.Secrets{Password: "secret"},
			})
			t.Cleanup(func() { assert.NoError(t, l.Close()) })
			root, err := ftp.Root(context.Background(), l, t.TempDir())
			require.NoError(t, err)
			is, err := l.Precise(context.Background())
			require.NoError(t, err)
			assert.True(t, is)
			return ftp.Open(l, root, &ftp.Found{
				AtomicReplace: true, RenameFolders: true, AtOnce: 4, TimePrecision: time.Second,
			})
		},
	})
}
