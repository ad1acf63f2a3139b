package farhost

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
)

// needed is what a server, its libraries and the sessions of its accounts read of /etc.
var needed = []string{"passwd", "shadow", "group", "gshadow", "pam.d", "security", "nsswitch.conf", "login.defs",
	"environment", "default", "shells", "ssl/openssl.cnf", "ld.so.cache", "ld.so.conf", "ld.so.conf.d", "localtime",
	"hosts", "alternatives", "profile", "bash.bashrc", "ssh/moduli"}

// ownEtc makes a copy of /etc in dir/etc, with lines added to some files: a server sees it in place of /etc, in a mount
// namespace of its own. It is replaced as a whole: a mount over /etc/passwd alone goes away, in every namespace, when a
// program adds an account to the machine, since that replaces the file by a rename.
//
// The copy holds the machine's password hashes, which only root may read in it.
func ownEtc(dir string, lines map[string]string) error {
	etc := filepath.Join(dir, "etc")
	if err := os.RemoveAll(etc); err != nil { // an earlier start's: the machine's accounts may have changed since
		return err
	}
	if err := os.Mkdir(etc, 0o755); err != nil {
		return err
	}
	for _, name := range needed {
		if _, err := os.Stat("/etc/" + name); err != nil {
			continue
		}
		cp := exec.Command("cp", "-a", "--parents", name, etc)
		cp.Dir = "/etc"
		if out, err := cp.CombinedOutput(); err != nil {
			return fmt.Errorf("cp: %w: %s", err, out)
		}
	}
	for _, name := range []string{"shadow", "gshadow"} { // they hold hashes, and only root reads them here
		if err := os.Chmod(filepath.Join(etc, name), 0o600); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	for name, line := range lines {
		f, err := os.OpenFile(filepath.Join(etc, name), os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		_, err = f.WriteString(line)
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}
