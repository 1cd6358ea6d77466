package demo

import (
	"cmp"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // the root connection
)

// Database is a private MariaDB: a child of this process that listens on a
// socket in its own folder and nowhere else.
type Database struct {
	dir   string
	cmd   *exec.Cmd
	ended chan error
}

// Tuning is what a server is set for.
type Tuning struct {
	Durable bool  // it keeps what it has committed when the power goes
	Pool    int64 // bytes of its buffer pool
	Log     int64 // bytes of its redo log

	User string   // as whom it runs; empty for whoever starts it
	More []string // further arguments
	Env  []string // further environment
}

const mebi = 1 << 20

// initLog is the redo log that a folder is made with: a larger one is made at the first start
// that wants it.
const initLog = 8 * mebi

// ForTests gives up durability, and is small.
var ForTests = Tuning{Pool: 64 * mebi, Log: initLog}

// ForWork is set by the machine's memory: a quarter of it for the pool, but not more than most, and
// a redo log of a sixteenth of that, so that a page is written once for many changes.
func ForWork(most int64) Tuning {
	pool := min(max(memory()/4, 128*mebi), most) / mebi * mebi
	return Tuning{Durable: true, Pool: pool, Log: pool / 16 / mebi * mebi}
}

// DemoPool is the most that the demo's own server takes.
const DemoPool = 1 << 30

// memory is that of the machine, 1 GiB where it does not tell.
func memory() int64 {
	var i syscall.Sysinfo_t
	if err := syscall.Sysinfo(&i); err != nil {
		return 1 << 30
	}
	return int64(i.Totalram) * int64(i.Unit)
}

func logSize(bytes int64) string { return fmt.Sprintf("--innodb-log-file-size=%d", bytes) }

// common are the arguments of every start.
func common(dir string, as Tuning) []string {
	me := as.User
	if u, err := user.Current(); err == nil && me == "" {
		me = u.Username
	}
	args := []string{"--no-defaults", "--user=" + me, "--datadir=" + filepath.Join(dir, "data"), "--socket=" + filepath.Join(dir, "sock"), "--pid-file=" + filepath.Join(dir, "pid"), "--tmpdir=" + filepath.Join(dir, "tmp"),
		"--skip-networking", "--skip-name-resolve", "--character-set-server=utf8mb4", "--collation-server=utf8mb4_unicode_ci", "--innodb-ft-enable-stopword=OFF", "--innodb-adaptive-hash-index=ON", logSize(as.Log), fmt.Sprintf("--innodb-buffer-pool-size=%d", as.Pool),
		"--max-allowed-packet=64M", "--max-connections=400", "--log-error=" + filepath.Join(dir, "log")}
	if !as.Durable {
		args = append(args, "--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--innodb-flush-method=nosync", "--performance-schema=OFF")
	}
	return append(args, as.More...)
}

// InitDatabase makes the data folder if it is not there.
func InitDatabase(dir string) error { return InitDatabaseAs(dir, "") }

// InitDatabaseAs does so for a server that runs as somebody else than whoever starts it, who alone
// connects as root.
func InitDatabaseAs(dir, runs string) error {
	data := filepath.Join(dir, "data")
	if _, err := os.Stat(filepath.Join(data, "mysql")); err == nil {
		return nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	me, err := user.Current()
	if err != nil {
		return err
	}
	tmp := filepath.Join(dir, "tmp") // for passing tables: see StartDatabase
	if err := os.MkdirAll(tmp, 0o700); err != nil {
		return err
	}
	if runs != "" {
		if err := os.Chmod(tmp, 0o1777); err != nil {
			return err
		}
	}
	out, err := exec.Command("mariadb-install-db", "--no-defaults", "--user="+cmp.Or(runs, me.Username), "--datadir="+data, "--tmpdir="+tmp, "--skip-test-db",
		"--auth-root-authentication-method=socket", "--auth-root-socket-user="+me.Username, logSize(initLog)).CombinedOutput()
	if err != nil {
		return fmt.Errorf("MariaDB's data folder could not be made: %w\n%s", err, out)
	}
	return nil
}

// StartDatabase starts MariaDB on a folder that InitDatabase made. It ends with
// this process, even if this process is killed.
func StartDatabase(dir string, as Tuning) (*Database, error) {
	if len(filepath.Join(dir, "sock")) > 107 {
		return nil, fmt.Errorf("the folder's name is too long for a socket: %s", dir)
	}
	// A server that starts clears its folder for passing tables; in one that it shares, it
	// takes them from under another server, which then breaks down.
	if err := os.MkdirAll(filepath.Join(dir, "tmp"), 0o700); err != nil {
		return nil, err
	}
	d := &Database{dir: dir, ended: make(chan error, 1)}
	started := make(chan error)
	go func() {
		runtime.LockOSThread()         // the child dies with this thread, which lives as long as we wait,
		defer runtime.UnlockOSThread() // and after that: what else was started on it would die with it
		d.cmd = exec.Command("mariadbd", common(dir, as)...)
		d.cmd.Env = append(os.Environ(), as.Env...)
		d.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
		err := d.cmd.Start()
		started <- err
		if err == nil {
			d.ended <- d.cmd.Wait()
		}
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("MariaDB does not start: %w", err)
	}
	db, err := d.root()
	if err != nil {
		return nil, err
	}
	defer db.Close()
	for end := time.Now().Add(60 * time.Second); ; {
		if db.Ping() == nil {
			return d, nil
		}
		select {
		case err := <-d.ended:
			text, _ := os.ReadFile(filepath.Join(dir, "log"))
			return nil, fmt.Errorf("MariaDB ended at once (%v):\n%s", err, tail(text, 2000))
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(end) {
			d.Stop()
			return nil, fmt.Errorf("MariaDB does not answer on %s", d.Socket())
		}
	}
}

func tail(b []byte, n int) []byte { return b[max(0, len(b)-n):] }

// Socket is where it listens.
func (d *Database) Socket() string { return filepath.Join(d.dir, "sock") }

// PID is its process.
func (d *Database) PID() int { return d.cmd.Process.Pid }

// Stop ends it in order.
func (d *Database) Stop() {
	d.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-d.ended:
	case <-time.After(20 * time.Second):
		d.Kill()
	}
}

// Kill ends it at once, as a loss of power would.
func (d *Database) Kill() {
	d.cmd.Process.Kill()
	<-d.ended
}

func (d *Database) root() (*sql.DB, error) {
	return sql.Open("mysql", fmt.Sprintf("root@unix(%s)/", d.Socket()))
}

// Accounts are the two ways into a database: the service's, and the one that
// migrates, which ferry serve never holds.
type Accounts struct {
	Service string // user@host, for the grants
	Serve   string // data source names
	Migrate string
	Root    string
}

// Provide makes a database and its accounts, with passwords from the system's
// randomness.
func (d *Database) Provide(ctx context.Context, name string) (Accounts, error) {
	db, err := d.root()
	if err != nil {
		return Accounts{}, err
	}
	defer db.Close()
	one, two := random(), random()
	serve, migrate := name+"_serve", name+"_migrate"
	for _, q := range []string{
		"CREATE DATABASE IF NOT EXISTS `" + name + "`",
		"CREATE OR REPLACE USER '" + serve + "'@'localhost' IDENTIFIED BY '" + one + "'",
		"CREATE OR REPLACE USER '" + migrate + "'@'localhost' IDENTIFIED BY '" + two + "'",
		"GRANT ALL ON `" + name + "`.* TO '" + migrate + "'@'localhost' WITH GRANT OPTION",
	} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return Accounts{}, fmt.Errorf("making the accounts: %w", err)
		}
	}
	source := func(user, password string) string {
		return fmt.Sprintf("%s:%s@unix(%s)/%s", user, password, d.Socket(), name)
	}
	return Accounts{Service: serve + "@localhost", Serve: source(serve, one), Migrate: source(migrate, two), Root: fmt.Sprintf("root@unix(%s)/%s", d.Socket(), name)}, nil
}

func random() string {
	b := make([]byte, 20)
	rand.Read(b)
	return hex.EncodeToString(b)
}
