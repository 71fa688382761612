// Package laboratory runs hosts with libvirt and QEMU for trying and testing: daemons of their own, beside the machine's, and a small
// image that boots in seconds without anything from outside but Debian's packages. It needs Debian and root.
package laboratory

import (
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket/dialers"
)

//go:embed image.sh host.sh guest
var files embed.FS

// Image is the name of the image that boots.
const Image = "levee"

// The pools of a host.
const (
	Pool   = "default"
	Images = "images"
)

// needed are the programs that a laboratory is made with, and the packages of Debian that have them.
var needed = map[string]string{
	"libvirtd": "libvirt-daemon", "qemu-system-x86_64": "qemu-system-x86", "qemu-img": "qemu-utils", "dnsmasq": "dnsmasq-base", "grub-mkimage": "grub-common",
	"mke2fs": "e2fsprogs", "cpio": "cpio", "depmod": "kmod", "ip": "iproute2", "iptables": "iptables", "unshare": "util-linux",
}

// beside are packages of which no program tells that they are there.
var beside = map[string]string{"/usr/lib/grub/i386-pc/boot.img": "grub-pc-bin", "/usr/lib/x86_64-linux-gnu/libvirt/connection-driver/libvirt_driver_qemu.so": "libvirt-daemon-driver-qemu"}

// Missing says what keeps a laboratory from being run here; nil if nothing does.
func Missing() error {
	if os.Getuid() != 0 {
		return errors.New("a laboratory is run by root alone: it has networks and machines of its own")
	}
	var packages []string
	for program, of := range needed {
		if _, err := exec.LookPath(program); err != nil {
			packages = append(packages, of)
		}
	}
	for file, of := range beside {
		if _, err := os.Stat(file); err != nil {
			packages = append(packages, of)
		}
	}
	if len(packages) > 0 {
		return fmt.Errorf("these packages of Debian are missing: %s", strings.Join(packages, " "))
	}
	return bridges()
}

// bridges holds that networks can be made here: some machines let nobody. It is tried once: several that try at the same moment are in each other's way.
var bridges = sync.OnceValue(func() error {
	name := fmt.Sprintf("lab%d", os.Getpid()) // at most 15 letters
	if out, err := exec.Command("ip", "link", "add", "name", name, "type", "bridge").CombinedOutput(); err != nil {
		return fmt.Errorf("no bridge can be made here: %w: %s", err, out)
	}
	return exec.Command("ip", "link", "delete", name).Run()
})

// imageTakes bounds how long it takes to make the image: packages are fetched for it.
const imageTakes = 5 * time.Minute

// MakeImage makes the image, or finds it as it was made before by the same scripts, and returns its file.
func MakeImage(ctx context.Context) (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	sum, err := scripts()
	if err != nil {
		return "", err
	}
	file := filepath.Join(cache, "andamio-laboratory", Image+"-"+sum[:16]+".qcow2")
	if _, err := os.Stat(file); err == nil {
		return file, nil
	}
	dir, err := os.MkdirTemp("", "andamio-image-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	if err := os.CopyFS(dir, files); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, imageTakes)
	defer cancel()
	out, err := exec.CommandContext(ctx, "sh", filepath.Join(dir, "image.sh"), filepath.Join(dir, "guest"), file).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("the image could not be made: %w: %s", err, out)
	}
	return file, nil
}

// scripts is the digest of what an image is made by.
func scripts() (string, error) {
	sum := sha256.New()
	err := fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path == "host.sh" {
			return err
		}
		data, err := files.ReadFile(path)
		fmt.Fprintf(sum, "%s %d\n", path, len(data))
		sum.Write(data)
		return err
	})
	return hex.EncodeToString(sum.Sum(nil)), err
}

// Host is a daemon with its networks, storage and machines, which keeps everything in a folder.
type Host struct {
	dir string
	// apart says that its networks are none of this machine's.
	apart bool
}

// Found is the host of a folder, whether or not its daemon runs.
func Found(dir string) *Host { return &Host{dir: dir} }

// settings are the daemon's: nobody but root speaks to it, and its machines run as root, for whom nothing need be set up.
var settings = map[string]string{
	"etc/libvirtd.conf": "listen_tls = 0\nauth_unix_rw = \"none\"\nauth_unix_ro = \"none\"\nunix_sock_rw_perms = \"0700\"\nunix_sock_ro_perms = \"0700\"\n",
	"etc/qemu.conf":     "user = \"root\"\ngroup = \"root\"\nsecurity_driver = \"none\"\ndynamic_ownership = 0\nremember_owner = 0\ncgroup_controllers = [ ]\nnamespaces = [ ]\nstdio_handler = \"file\"\n",
}

// Start runs a host that keeps everything in a folder. One that ran there before goes on with what it had.
func Start(ctx context.Context, dir string) (*Host, error) { return start(ctx, &Host{dir: dir}) }

// StartApart runs a host as another machine would: its networks are its own, and may have the same ranges as those here. Nobody here reaches its machines but by
// their consoles.
func StartApart(ctx context.Context, dir string) (*Host, error) {
	return start(ctx, &Host{dir: dir, apart: true})
}

func start(ctx context.Context, h *Host) (*Host, error) {
	dir := h.dir
	if err := Missing(); err != nil {
		return nil, err
	}
	image, err := MakeImage(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"etc", "pool", "images"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o700); err != nil {
			return nil, err
		}
	}
	for name, text := range settings {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	own := filepath.Join(dir, "images", Image+".qcow2")
	if _, err := os.Stat(own); err != nil {
		if err := exec.CommandContext(ctx, "cp", "--reflink=auto", image, own).Run(); err != nil {
			return nil, fmt.Errorf("the image could not be copied: %w", err)
		}
	}
	if !h.apart {
		makeChains(ctx)
	}
	if err := h.Run(ctx); err != nil {
		return nil, err
	}
	return h, h.pools(ctx)
}

// chains are those of the firewall that daemons keep their rules in, by tables.
var chains = map[string][]string{"filter": {"LIBVIRT_INP", "LIBVIRT_OUT", "LIBVIRT_FWO", "LIBVIRT_FWI", "LIBVIRT_FWX"}, "nat": {"LIBVIRT_PRT"}, "mangle": {"LIBVIRT_PRT"}}

// makeChains makes the chains where they are not there: several daemons that begin at one time would each see that they are not, and all but the first fail to make them. Where one cannot be
// made the daemon says why when it needs it.
func makeChains(ctx context.Context) {
	for _, program := range []string{"iptables", "ip6tables"} {
		for table, names := range chains {
			for _, name := range names {
				_ = exec.CommandContext(ctx, program, "-w", "--table", table, "--new-chain", name).Run()
			}
		}
	}
}

// Socket is where the daemon listens.
func (h *Host) Socket() string { return filepath.Join(h.dir, "run", "libvirt-sock") }

// starting bounds how long a daemon takes until it answers.
const starting = 30 * time.Second

// Run runs the daemon if it does not run, after it was killed too, and waits until it answers.
func (h *Host) Run(ctx context.Context) error {
	if l, err := h.dial(); err == nil {
		return l.Disconnect()
	}
	text, err := files.ReadFile("host.sh")
	if err != nil {
		return err
	}
	script := filepath.Join(h.dir, "host.sh")
	if err := os.WriteFile(script, text, 0o700); err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(h.dir, "daemon.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command("unshare", map[bool]string{false: "-m", true: "-mn"}[h.apart], "sh", script, h.dir)
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // it goes on without us
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	ctx, cancel := context.WithTimeout(ctx, starting)
	defer cancel()
	for {
		if l, err := h.dial(); err == nil {
			return l.Disconnect()
		}
		select {
		case err := <-ended:
			said, _ := os.ReadFile(log.Name())
			return fmt.Errorf("the daemon ended: %w: %s", err, said)
		case <-ctx.Done():
			return fmt.Errorf("the daemon does not answer: %w", context.Cause(ctx))
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (h *Host) dial() (*libvirt.Libvirt, error) {
	conn, err := net.DialTimeout("unix", h.Socket(), time.Second)
	if err != nil {
		return nil, err
	}
	l := libvirt.NewWithDialer(dialers.NewAlreadyConnected(conn))
	return l, l.ConnectToURI(libvirt.QEMUSystem)
}

// pools makes the pools of disks and images, where they are not there yet.
func (h *Host) pools(_ context.Context) error {
	l, err := h.dial()
	if err != nil {
		return err
	}
	defer func() { _ = l.Disconnect() }()
	for name, dir := range map[string]string{Pool: "pool", Images: "images"} {
		pool, err := l.StoragePoolLookupByName(name)
		if err != nil {
			text := fmt.Sprintf("<pool type='dir'><name>%s</name><target><path>%s</path></target></pool>", name, filepath.Join(h.dir, dir))
			if pool, err = l.StoragePoolDefineXML(text, 0); err != nil {
				return err
			}
			if err := l.StoragePoolSetAutostart(pool, 1); err != nil {
				return err
			}
		}
		if on, err := l.StoragePoolIsActive(pool); err != nil || on == 1 {
			continue
		}
		if err := l.StoragePoolCreate(pool, 0); err != nil {
			return err
		}
	}
	return nil
}

// Kill ends the daemon as a crash would; its machines go on.
func (h *Host) Kill() error { return h.signal(syscall.SIGKILL) }

// ending bounds how long a daemon takes to end.
const ending = 10 * time.Second

// signal signals the daemon, if it runs, and waits until it does not any more.
func (h *Host) signal(s syscall.Signal) error {
	text, err := os.ReadFile(filepath.Join(h.dir, "run", "libvirtd.pid"))
	if err != nil {
		return nil //nolint:nilerr // it never ran, or ended well
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return fmt.Errorf("the daemon's process cannot be told: %w", err)
	}
	for end := time.Now().Add(ending); ; s = 0 {
		if err := syscall.Kill(pid, s); errors.Is(err, syscall.ESRCH) {
			return nil
		} else if err != nil {
			return err
		}
		if time.Now().After(end) {
			return fmt.Errorf("the daemon, process %d, does not end", pid)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// isOff says that a machine was not on any more.
func isOff(err error) bool {
	var told libvirt.Error
	return errors.As(err, &told) && libvirt.ErrorNumber(told.Code) == libvirt.ErrOperationInvalid
}

// Stop switches everything off, machines and networks, and ends the daemon. What is kept in the folder stays there.
func (h *Host) Stop() error {
	l, err := h.dial()
	if err == nil {
		machines, _, _ := l.ConnectListAllDomains(1, libvirt.ConnectListDomainsActive)
		for _, m := range machines {
			if e := l.DomainDestroy(m); !libvirt.IsNotFound(e) && !isOff(e) {
				err = errors.Join(err, e)
			}
		}
		nets, _, _ := l.ConnectListAllNetworks(1, libvirt.ConnectListNetworksActive)
		for _, n := range nets {
			err = errors.Join(err, l.NetworkDestroy(n))
		}
		_ = l.Disconnect()
	}
	return errors.Join(err, h.signal(syscall.SIGTERM))
}
