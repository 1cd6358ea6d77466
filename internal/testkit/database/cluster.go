package database

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"zealousferry/internal/demo"
	"zealousferry/internal/store"
)

// provider is MariaDB's part that joins servers to a Galera cluster.
const provider = "/usr/lib/galera/libgalera_smm.so"

// notices is how soon the others go on without a node that says nothing, as docs/operating.md wants
// it where nodes are on one network.
const notices = "evs.keepalive_period=PT0.5S;evs.inactive_check_period=PT0.25S;evs.suspect_timeout=PT2S;evs.inactive_timeout=PT4S;evs.install_timeout=PT4S"

// Cluster is a Galera cluster of MariaDB servers on this machine.
type Cluster struct {
	Nodes []*Database
	ports [][3]int // of each: group, state transfer, the same by increments
}

// Clustered tells what is missing here for a cluster; empty where nothing is.
func Clustered(scripts string) string {
	if _, err := os.Stat(provider); err != nil {
		return provider
	}
	if _, err := exec.LookPath("rsync"); err != nil {
		return "rsync"
	}
	if _, err := os.Stat(filepath.Join(scripts, "wsrep_sst_rsync")); err != nil {
		return "wsrep_sst_rsync"
	}
	return ""
}

// NewCluster starts one of n nodes, migrated. scripts is the folder of MariaDB's scripts for the
// transfer of state.
func NewCluster(t T, n int, scripts string) *Cluster {
	t.Helper()
	scripts, err := filepath.Abs(scripts) // a server works in its own folder
	if err != nil {
		t.Fatal(err)
	}
	c := &Cluster{}
	runs := ""
	if os.Getuid() == 0 { // the transfer's rsync does not run as root
		runs = "nobody"
	}
	for range n {
		dir, err := os.MkdirTemp("", "ferry-db-")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { os.RemoveAll(dir) })
		if err := os.Mkdir(filepath.Join(dir, "tmp"), 0o700); err != nil {
			t.Fatal(err)
		}
		if runs != "" {
			own(t, dir, runs)
			own(t, filepath.Join(dir, "tmp"), runs)
		}
		if err := demo.InitDatabaseAs(dir, runs); err != nil {
			t.Fatal(err)
		}
		c.ports = append(c.ports, [3]int{freePort(t), freePort(t), freePort(t)})
		as := demo.ForTests
		as.User, as.Env = runs, []string{"PATH=" + scripts + ":" + os.Getenv("PATH")}
		c.Nodes = append(c.Nodes, &Database{dir: dir, as: as})
	}
	for i := range c.Nodes {
		if err := c.Start(i, i == 0); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Nodes[i].Database.Kill() })
	}
	accounts, err := c.Nodes[0].Provide(context.Background(), "ferry")
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range c.Nodes {
		d.Accounts = demo.Accounts{Service: accounts.Service}
		for from, to := range map[string]*string{accounts.Serve: &d.Serve, accounts.Migrate: &d.Migrate, accounts.Root: &d.Root} {
			*to = strings.ReplaceAll(from, c.Nodes[0].Socket(), filepath.Join(d.dir, "sock"))
		}
	}
	if err := store.Migrate(context.Background(), accounts.Migrate, accounts.Service, false); err != nil {
		t.Fatal(err)
	}
	return c
}

// Start starts a node, which joins the others; the first one makes the cluster.
func (c *Cluster) Start(i int, first bool) (err error) {
	d := c.Nodes[i]
	var others []string
	for k, p := range c.ports {
		if k != i {
			others = append(others, fmt.Sprintf("127.0.0.1:%d", p[0]))
		}
	}
	address := "gcomm://" + strings.Join(others, ",")
	as, p := d.as, c.ports[i]
	if first {
		address = "gcomm://"
		as.More = append(as.More, "--wsrep-new-cluster")
	}
	as.More = append(as.More, "--wsrep-on=ON", "--wsrep-provider="+provider, "--wsrep-cluster-address="+address, fmt.Sprintf("--wsrep-node-address=127.0.0.1:%d", p[0]),
		"--wsrep-sst-method=rsync", fmt.Sprintf("--wsrep-sst-receive-address=127.0.0.1:%d", p[1]),
		fmt.Sprintf("--wsrep-provider-options=base_port=%d;gmcast.listen_addr=tcp://127.0.0.1:%d;ist.recv_addr=127.0.0.1:%d;gcache.size=16M;%s", p[0], p[0], p[2], notices),
		"--binlog-format=ROW", "--innodb-autoinc-lock-mode=2")
	d.Database, err = demo.StartDatabase(d.dir, as)
	return err
}

func own(t T, dir, name string) {
	u, err := user.Lookup(name)
	if err != nil {
		t.Fatal(err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(dir, uid, gid); err != nil {
		t.Fatal(err)
	}
}

func freePort(t T) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}
