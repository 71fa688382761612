// Package team runs a team's laboratory on one machine, for trying and for tests: a database of PostgreSQL, a bus of NATS, machines that serve one workspace in it, and closed networks (ip-netns(8)) each of which
// has sites of its own and a worker that connects out; all of it real but the sites. It is gone without a trace when it is stopped.
package team

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"andamio/internal/app"
	busserver "andamio/internal/bus/server"
	"andamio/internal/core/hook"
	"andamio/internal/durable"
	"andamio/internal/service/acting"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
	"andamio/internal/store/postgres/server"
	"andamio/internal/vault"
)

// Network is a closed network with sites of its own.
type Network struct {
	Name  string
	Sites []string
	// Here and There are the ends of its only link: outside, and inside.
	Here, There string

	ns     string
	worker *exec.Cmd
	box    *exec.Cmd
}

// Machine is one of the team's, which serves the workspace.
type Machine struct {
	Dir string
	// URL is where programs and workers come to.
	URL   string
	port  int
	serve *exec.Cmd
}

// Team is a laboratory that runs.
type Team struct {
	Database *server.Server
	Bus      *busserver.Server
	Machines []*Machine
	Networks []*Network
	// Portal is where the screens are served over SSH, and Key the file of the key that opens it.
	Portal, Key string

	program, dir, token string
	pace                string
}

// networks are the closed networks, with the sites of the scenario in them.
func networks() []*Network {
	return []*Network{{Name: "inland", Sites: []string{"presa", "vega"}}, {Name: "coast", Sites: []string{"alisio-norte", "alisio-sur", "tramonta"}}}
}

// fileAuthority is what a machine's certificate is vouched for by.
const fileAuthority = "api-authority.pem"

// machines is how many there are.
const machines = 3

// Missing says what keeps a laboratory from being run here; nil if nothing does.
func Missing() error {
	if os.Getuid() != 0 {
		return errors.New("a team's laboratory is run by root alone: it has networks of its own")
	}
	if server.Installed() == "" {
		return errors.New("PostgreSQL is not installed (Debian: postgresql)")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		return errors.New("there is no ip (Debian: iproute2)")
	}
	name := fmt.Sprint("andtry", os.Getpid())
	if out, err := exec.Command("ip", "netns", "add", name).CombinedOutput(); err != nil {
		return fmt.Errorf("no network of its own can be made here: %s", strings.TrimSpace(string(out)))
	}
	return exec.Command("ip", "netns", "del", name).Run()
}

// startWithin is how long each part may take until it is there.
const startWithin = time.Minute

// Start runs a laboratory in an empty folder, which others may enter: the database is somebody else's. Pace is that of the sites.
func Start(ctx context.Context, program, dir, pace string) (t *Team, err error) {
	t = &Team{program: program, dir: dir, Networks: networks(), pace: pace}
	defer func() {
		if err != nil {
			err = errors.Join(err, t.Stop())
		}
	}()
	if t.Database, err = server.Make(ctx, filepath.Join(dir, "database")); err != nil {
		return t, err
	}
	if err = t.Database.Start(ctx); err != nil {
		return t, err
	}
	for i, n := range t.Networks {
		if err = t.open(ctx, i, n); err != nil {
			return t, fmt.Errorf("the network %s: %w", n.Name, err)
		}
	}
	if t.Bus, err = busserver.Make(ctx, filepath.Join(dir, "bus")); err != nil {
		return t, err
	}
	if err = t.Bus.Start(ctx); err != nil {
		return t, err
	}
	if err = t.join(ctx); err != nil {
		return t, err
	}
	for i := range t.Machines {
		if err = t.Serve(ctx, i); err != nil {
			return t, err
		}
	}
	if err = t.makeToken(ctx); err != nil {
		return t, err
	}
	for i := range t.Networks {
		if err = t.Work(ctx, i); err != nil {
			return t, err
		}
	}
	return t, t.Reached(ctx)
}

func ip(args ...string) error {
	out, err := exec.Command("ip", args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return nil
}

// open makes a closed network and starts its sites inside.
func (t *Team) open(ctx context.Context, i int, n *Network) error {
	n.ns = fmt.Sprintf("at%d-%d", os.Getpid()%100000, i)
	third := (os.Getpid() + 91*i) % 250
	n.Here, n.There = fmt.Sprintf("10.214.%d.1", third), fmt.Sprintf("10.214.%d.2", third)
	for _, do := range [][]string{{"netns", "add", n.ns}, {"link", "add", n.ns + "a", "type", "veth", "peer", "name", n.ns + "b", "netns", n.ns}, {"addr", "add", n.Here + "/30", "dev", n.ns + "a"},
		{"link", "set", n.ns + "a", "up"}, {"-n", n.ns, "addr", "add", n.There + "/30", "dev", n.ns + "b"}, {"-n", n.ns, "link", "set", n.ns + "b", "up"}, {"-n", n.ns, "link", "set", "lo", "up"}} {
		if err := ip(do...); err != nil {
			return err
		}
	}
	e, err := templates.DemoEstate()
	if err != nil {
		return err
	}
	for k := len(e.Sites) - 1; k >= 0; k-- {
		if !slices.Contains(n.Sites, e.Sites[k].Name) {
			e.Sites = slices.Delete(e.Sites, k, k+1)
		}
	}
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	estate := filepath.Join(t.dir, n.Name+".json")
	if err := os.WriteFile(estate, text, 0o600); err != nil {
		return err
	}
	n.box = t.inside(n, "sandbox", "--workspace", t.standIns(n), "--estate", estate, "--pace", t.pace, "--quiet")
	if err := t.begin(n.box, n.Name+"-sites"); err != nil {
		return err
	}
	return eventually(ctx, "the sites of "+n.Name, func() error {
		all, err := workspace.New(t.standIns(n)).Connections()
		if err == nil && len(all) < len(n.Sites) {
			err = fmt.Errorf("%d of %d are connected", len(all), len(n.Sites))
		}
		return err
	})
}

// standIns is the folder where the sites of a network keep what they hold.
func (t *Team) standIns(n *Network) string { return filepath.Join(t.dir, n.Name) }

// inside is the program in a closed network.
func (t *Team) inside(n *Network, args ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", n.ns, t.program}, args...)...)
}

// begin starts a process, which says what it says to a file of its own, and ends with this one.
func (t *Team) begin(cmd *exec.Cmd, name string) error {
	out, err := os.OpenFile(filepath.Join(t.dir, name+".out"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	cmd.Stdout, cmd.Stderr = out, out
	cmd.Env = append(os.Environ(), "ANDAMIO_SERVE=on")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return cmd.Start()
}

// eventually waits until something is so.
func eventually(ctx context.Context, what string, so func() error) error {
	ctx, cancel := context.WithTimeout(ctx, startWithin)
	defer cancel()
	for {
		err := so()
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: not within %s: %w", what, startWithin, err)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// join makes the machines of the team, and connects the sites through the pools of their networks.
func (t *Team) join(ctx context.Context) error {
	key := ""
	for i := range machines {
		m := &Machine{Dir: filepath.Join(t.dir, fmt.Sprint("machine-", i+1))}
		if _, err := app.Join(ctx, m.Dir, t.Database.Address("team"), "", key); err != nil {
			return err
		}
		var err error
		if m.port, err = freePort(); err != nil {
			return err
		}
		t.Machines = append(t.Machines, m)
		if i == 0 {
			if err := t.connect(ctx, m); err != nil {
				return err
			}
			key = filepath.Join(m.Dir, vault.KeyFile)
		}
	}
	return nil
}

func (t *Team) connect(ctx context.Context, m *Machine) error {
	ws, closed, err := app.Files(ctx, m.Dir)
	if err != nil {
		return err
	}
	var all []workspace.Connection
	for _, n := range t.Networks {
		from := workspace.New(t.standIns(n))
		theirs, err := from.Connections()
		if err == nil {
			err = copySecrets(from, ws)
		}
		if err != nil {
			return errors.Join(err, closed())
		}
		for i := range theirs {
			theirs[i].Through, theirs[i].Renew = n.Name, nil
		}
		all = append(all, theirs...)
	}
	teams, err := t.directory()
	if err == nil {
		err = errors.Join(ws.SetConnections(all), ws.SetDirectory(teams), ws.SetSecrets(map[string]string{busSecret: busserver.Password}),
			ws.SetBus(workspace.Bus{Bus: hook.Bus{Server: t.Bus.URL(), Subject: app.BusSubject, User: busserver.User}, Secret: busSecret}))
	}
	return errors.Join(err, closed())
}

// busSecret is the name under which the password of the bus is kept.
const busSecret = "bus"

// copySecrets keeps what plans of the scenario need that is secret.
func copySecrets(from, to *workspace.Workspace) error {
	names, err := from.Vault.Names(workspace.ShelfSecrets)
	if err != nil || len(names) == 0 {
		return err
	}
	secrets, err := from.Secrets(names)
	if err != nil {
		return err
	}
	return to.SetSecrets(secrets)
}

// directory is who there is: whoever runs the laboratory, by a key that is made for it.
func (t *Team) directory() ([]byte, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "laboratory")
	if err != nil {
		return nil, err
	}
	t.Key = filepath.Join(t.dir, "portal.key")
	if err := durable.Write(t.Key, pem.EncodeToMemory(block)); err != nil {
		return nil, err
	}
	line, err := ssh.NewPublicKey(public)
	if err != nil {
		return nil, err
	}
	return fmt.Appendf(nil, "version: andamio.teams/1\npeople: { keeper: { user: %q, keys: [%q] } }\ngrants: [ { to: keeper, role: engineer } ]\n",
		acting.Whoami(), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(line)))), nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Serve has a machine serve the workspace, the first one the screens too, and waits until it does.
func (t *Team) Serve(ctx context.Context, i int) error {
	m := t.Machines[i]
	names := []string{"127.0.0.1"}
	for _, n := range t.Networks {
		names = append(names, n.Here)
	}
	m.URL = fmt.Sprintf("https://127.0.0.1:%d", m.port)
	args := []string{"serve", "--workspace", m.Dir, "--address", "127.0.0.1:0", "--api", fmt.Sprintf("0.0.0.0:%d", m.port)}
	if _, err := os.Stat(filepath.Join(m.Dir, fileAuthority)); err != nil { // the first time: workers trust it from then on
		args = append(args, "--tls-init", strings.Join(names, ","))
	}
	if i == 0 {
		if t.Portal == "" {
			port, err := freePort()
			if err != nil {
				return err
			}
			t.Portal = fmt.Sprintf("127.0.0.1:%d", port)
		}
		args = append(args, "--ssh", t.Portal)
	}
	m.serve = exec.Command(t.program, args...)
	if err := t.begin(m.serve, filepath.Base(m.Dir)); err != nil {
		return err
	}
	return eventually(ctx, filepath.Base(m.Dir), func() error {
		c, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", m.port), time.Second)
		if err == nil {
			err = c.Close()
		}
		return err
	})
}

// Kill ends the process by which a machine serves the workspace, as a failure does.
func (t *Team) Kill(i int) { kill(t.Machines[i].serve, syscall.SIGKILL) }

// Work has the worker of a network join a machine.
func (t *Team) Work(_ context.Context, i int) error {
	n, m := t.Networks[i], t.Machines[(i+1)%len(t.Machines)]
	n.worker = t.inside(n, "work", "--join", fmt.Sprintf("https://%s:%d", n.Here, m.port), "--authority", filepath.Join(m.Dir, fileAuthority), "--pool", n.Name, "--name", n.Name+"-1", "--token-file", t.token)
	return t.begin(n.worker, n.Name+"-worker")
}

// KillWorker ends the worker of a network, as a failure does.
func (t *Team) KillWorker(i int) { kill(t.Networks[i].worker, syscall.SIGKILL) }

func (t *Team) makeToken(ctx context.Context) error {
	out, err := t.Command(ctx, 0, "token", "make", "workers", "--right", "connect").Output()
	if err != nil {
		return fmt.Errorf("no token for workers: %w", err)
	}
	t.token = filepath.Join(t.dir, "worker.token")
	return durable.Write(t.token, out)
}

// Command is a command of somebody at a machine.
func (t *Team) Command(ctx context.Context, i int, args ...string) *exec.Cmd {
	return exec.CommandContext(ctx, t.program, append([]string{"--workspace", t.Machines[i].Dir}, args...)...)
}

// Reached waits until all sites are reached.
func (t *Team) Reached(ctx context.Context) error {
	return eventually(ctx, "the sites through their workers", func() error {
		for _, n := range t.Networks {
			for _, s := range n.Sites {
				if out, err := t.Command(ctx, 0, "site", "test", s).CombinedOutput(); err != nil {
					return fmt.Errorf("%s", strings.TrimSpace(string(out)))
				}
			}
		}
		return nil
	})
}

// Stop ends everything, and takes away the networks; the folder is whoever's who named it.
func (t *Team) Stop() error {
	for _, m := range t.Machines {
		kill(m.serve, syscall.SIGTERM)
	}
	var errs []error
	for _, n := range t.Networks {
		kill(n.worker, syscall.SIGTERM)
		kill(n.box, syscall.SIGTERM)
		if n.ns != "" {
			_ = exec.Command("ip", "link", "del", n.ns+"a").Run() // which may have gone with what follows
			if err := ip("netns", "del", n.ns); err != nil && !strings.Contains(err.Error(), "No such file") {
				errs = append(errs, err)
			}
		}
	}
	if t.Bus != nil {
		t.Bus.Stop()
	}
	if t.Database != nil {
		t.Database.Stop()
	}
	return errors.Join(errs...)
}

// kill ends a process and those that it began, and waits; one that does not heed is made to.
func kill(cmd *exec.Cmd, how syscall.Signal) {
	if cmd == nil || cmd.Process == nil || cmd.ProcessState != nil {
		return
	}
	_ = syscall.Kill(-cmd.Process.Pid, how)
	late := time.AfterFunc(20*time.Second, func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
	defer late.Stop()
	_ = cmd.Wait()
}
