package sandbox

import (
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
)

// guardPort marks a block of addresses as taken by one sandbox.
const guardPort = "5999"

// block is a part of 127.0.0.0/8 that one sandbox has to itself: 127.octet.0.0/16. Octet 0 stands for 127.0.0.1 alone.
type block struct {
	octet int
	guard net.Listener
}

// The blocks that sandboxes take.
const (
	firstBlock = 8
	blocks     = 242
)

// claim takes a free block, or 127.0.0.1 alone where other loopback addresses do not exist or are not wanted. One that was had before is
// had again, or it is an error. Processes begin to look at different ones: what one that fell had, and will want again, is not what the
// next that starts takes.
func claim(oneAddress bool, before int) (*block, error) {
	if oneAddress {
		return &block{}, nil
	}
	if before != 0 {
		l, err := net.Listen("tcp", fmt.Sprintf("127.%d.0.1:%s", before, guardPort))
		if err != nil {
			return &block{}, fmt.Errorf("the addresses 127.%d.0.0/16, which these stand-ins had, are in use by others: end those first: %w", before, err)
		}
		return &block{before, l}, nil
	}
	for i := range blocks {
		octet := firstBlock + (os.Getpid()+i)%blocks
		l, err := net.Listen("tcp", fmt.Sprintf("127.%d.0.1:%s", octet, guardPort))
		if err == nil {
			return &block{octet, l}, nil
		}
		if !errors.Is(err, syscall.EADDRINUSE) {
			break
		}
	}
	return &block{}, nil
}

func (b *block) release() {
	if b.guard != nil {
		b.guard.Close()
	}
}

func (b *block) address(subnet, host int) string {
	if b.octet == 0 {
		return "127.0.0.1"
	}
	return fmt.Sprintf("127.%d.%d.%d", b.octet, subnet, host)
}

// site is the part of the block for the i-th site: its own address and, unless there is only one address, 16 subnets
// of 250 addresses for instances.
func (b *block) site(i int) *addresses {
	return &addresses{block: b, first: 1 + i*16, own: b.address(0, i+1), used: map[string]bool{}}
}

// addresses hands out the addresses of one site.
type addresses struct {
	block *block
	first int
	own   string

	mu   sync.Mutex
	used map[string]bool
}

// single reports that there are no addresses for instances.
func (a *addresses) single() bool { return a.block.octet == 0 }

// take reserves an address for an instance; false if none is left.
func (a *addresses) take() (string, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for n := range 16 * 250 {
		addr := a.block.address(a.first+n/250, 4+n%250)
		if !a.used[addr] {
			a.used[addr] = true
			return addr, true
		}
	}
	return "", false
}

// hold reserves an address that was taken before.
func (a *addresses) hold(addr string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.used[addr] = true
}

func (a *addresses) free(addr string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.used, addr)
}

// reach is how one instance is reached: an address, and for each of its ports the port there. Where the address is the
// instance's own a port is itself if it may be opened; elsewhere ports are mapped to free ones.
type reach struct {
	address string
	own     bool

	mu   sync.Mutex
	maps map[int]int
}

// newReach finds places for the requested ports and the shell's at once, so that the map can be told before anything
// listens.
func newReach(address string, own bool, ports []int) (*reach, error) {
	r := &reach{address: address, own: own, maps: map[int]int{}}
	for _, port := range append([]int{22}, ports...) {
		if _, twice := r.maps[port]; twice {
			continue
		}
		l, err := r.open(port)
		if err != nil {
			return nil, err
		}
		r.maps[port] = l.Addr().(*net.TCPAddr).Port
		// Only the number is kept: a port that is bound but served by nobody would accept connections.
		l.Close()
	}
	return r, nil
}

func (r *reach) open(port int) (net.Listener, error) {
	if mapped, ok := r.maps[port]; ok {
		return net.Listen("tcp", net.JoinHostPort(r.address, strconv.Itoa(mapped)))
	}
	if r.own {
		l, err := net.Listen("tcp", net.JoinHostPort(r.address, strconv.Itoa(port)))
		if err == nil || !errors.Is(err, os.ErrPermission) {
			return l, err
		}
	}
	return listenMapped(r.address)
}

// Listen opens the instance's port wherever it is mapped.
func (r *reach) Listen(port int) (net.Listener, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l, err := r.open(port)
	if err != nil {
		return nil, err
	}
	r.maps[port] = l.Addr().(*net.TCPAddr).Port
	return l, nil
}

// Ports are those of the instance that are reached.
func (r *reach) Ports() []int { return slices.Sorted(maps.Keys(r.mapped())) }

// mapped is where a port is reached.
func (r *reach) mapped() map[int]int {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make(map[int]int, len(r.maps))
	for k, v := range r.maps {
		out[k] = v
	}
	return out
}

// Mapped ports are taken from below the range that systems give to outgoing connections, which would else collide.
const (
	firstMapped = 20_000
	mappedPorts = 12_000
)

var nextMapped atomic.Uint32

func init() { nextMapped.Store(uint32(os.Getpid() * 37 % mappedPorts)) }

// listenMapped listens on the next free port for mapping.
func listenMapped(address string) (net.Listener, error) {
	var err error
	for range mappedPorts {
		port := firstMapped + int(nextMapped.Add(1)%mappedPorts)
		var l net.Listener
		if l, err = net.Listen("tcp", net.JoinHostPort(address, strconv.Itoa(port))); err == nil {
			return l, nil
		}
	}
	return nil, err
}
