package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"andamio/internal/core/front"
)

// How many questions are asked, by how many at once, of how many members.
const (
	frontQuestions = 200_000
	frontAtOnce    = 32
	frontMembers   = 30
)

const frontFile = `version: andamio.fronts/1
zone: near.ribera.test
servers: [ns1.ribera.test, ns2.ribera.test]
regions:
- { name: a, networks: [10.1.0.0/16], near: s1 }
- { name: b, networks: [10.2.0.0/16], near: s2 }
- { name: c, networks: [10.3.0.0/16], near: s3 }
fronts:
- { name: map, endpoint: river-map, full: 85% }
`

// answers measures what one answer for a front takes of a core, packet to packet, in a process of its own, while that asks its members.
func answers(dir string) ([]result, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	file := filepath.Join(dir, "fronts.json")
	if err := writeFronts(file); err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, binary, "front", "answer", "--listen", "127.0.0.1:0", "--from", file)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	defer func() { cancel(); _ = cmd.Wait() }()
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return nil, err
	}
	at := strings.TrimSpace(strings.TrimPrefix(line, "answering at "))
	if err := questions(ctx, at, frontQuestions/20); err != nil { // until it runs as it does later
		return nil, err
	}
	before, err := busyOf(cmd.Process.Pid)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if err := questions(ctx, at, frontQuestions); err != nil {
		return nil, err
	}
	took := time.Since(began)
	after, err := busyOf(cmd.Process.Pid)
	if err != nil {
		return nil, err
	}
	each := (after - before) / frontQuestions
	return []result{{name: "front: an answer, of a core", figure: each, ratio: float64(took) / float64(after-before), base: "the time it took both sides", target: 50 * time.Microsecond}}, nil
}

// writeFronts writes what was known last of a front of many members, none of which is there.
func writeFronts(file string) error {
	f, err := front.Read([]byte(frontFile))
	if err != nil {
		return err
	}
	t := front.Table{File: f, Members: map[string][]front.Member{}, Between: map[string]map[string]float64{"s1": {"s2": 5, "s3": 9}, "s2": {"s3": 4}}}
	for i := range frontMembers {
		t.Members["map"] = append(t.Members["map"], front.Member{Name: fmt.Sprint("map-", i), Deployment: 1, Site: fmt.Sprint("s", 1+i%3), Address: netip.AddrFrom4([4]byte{127, 9, 0, byte(i + 1)}), Port: 9, Up: true})
	}
	data, err := t.Write([]byte(frontFile))
	if err != nil {
		return err
	}
	return os.WriteFile(file, data, 0o600)
}

// questions asks so many, each of one of four networks.
func questions(ctx context.Context, at string, n int) error {
	var group sync.WaitGroup
	var mu sync.Mutex
	var wrong error
	for i := range frontAtOnce {
		group.Go(func() {
			if err := questionsBy(ctx, at, n/frontAtOnce, i); err != nil {
				mu.Lock()
				wrong = errors.Join(wrong, err)
				mu.Unlock()
			}
		})
	}
	group.Wait()
	return wrong
}

// questionsBy asks by one socket, one after another.
func questionsBy(ctx context.Context, at string, n, seed int) error {
	conn, err := (&net.Dialer{}).DialContext(ctx, "udp", at)
	if err != nil {
		return err
	}
	defer conn.Close()
	m := new(dns.Msg)
	m.SetQuestion("map.near.ribera.test.", dns.TypeA)
	m.SetEdns0(1232, false)
	m.IsEdns0().Option = append(m.IsEdns0().Option, &dns.EDNS0_SUBNET{Code: dns.EDNS0SUBNET, Family: 1, SourceNetmask: 24, Address: net.IPv4(10, byte(1+seed%4), 7, 0)})
	data, err := m.Pack()
	if err != nil {
		return err
	}
	buffer := make([]byte, 4096)
	for range n {
		if _, err := conn.Write(data); err != nil {
			return err
		}
		if err := conn.SetReadDeadline(time.Now().Add(5 * time.Second)); err != nil {
			return err
		}
		got, err := conn.Read(buffer)
		if err != nil {
			return err
		}
		if got < len(data) { // whatever it says, it repeats the question
			return fmt.Errorf("an answer of %d bytes", got)
		}
	}
	return nil
}

// busyOf is how long a process has kept cores busy (proc_pid_stat(5): fields 14 and 15, in hundredths of a second).
func busyOf(pid int) (time.Duration, error) {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	text := string(data)
	fields := strings.Fields(text[strings.LastIndex(text, ")")+1:])
	var sum time.Duration
	for _, at := range []int{11, 12} {
		n, err := strconv.Atoi(fields[at])
		if err != nil {
			return 0, err
		}
		sum += time.Duration(n) * 10 * time.Millisecond
	}
	return sum, nil
}
