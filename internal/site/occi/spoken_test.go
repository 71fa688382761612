package occi

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/golden"
	"andamio/internal/site"
	"andamio/internal/site/keep"
	"andamio/internal/site/occi/wire"
)

// listener writes down all that is said to it, and answers by method and path; "" is what is answered to everything else.
type listener struct {
	*httptest.Server
	answers map[string]string
	said    strings.Builder
}

// query is the query interface of a site of a sort.
var queries = map[string]string{
	"nothing is told of itself": "",
	"ours": fmt.Sprintf(`{"kinds":[{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"compute"},{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"storage","location":"/disks/"},{"scheme":"%sstorage#","term":"snapshot"}],"mixins":[{"scheme":"%smark#","term":"mark"}]}`,
		wire.Own, wire.Own),
	"ours, and snapshots are copies": fmt.Sprintf(`{"kinds":[{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"compute","location":"HERE/machines/"}],"mixins":[{"scheme":"%smark#","term":"mark"}]}`, wire.Own),
	"the standard's":                 `{"kinds":[{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"compute","location":"/machines/"},{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"network","location":"HERE/nets/"},{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"storage","location":""}],"mixins":[]}`,
	"the standard's, with templates and keys": `{"kinds":[{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"compute","location":"/machines/"}],"mixins":[` +
		`{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"resource_tpl"},{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"os_tpl"},` +
		`{"scheme":"http://x/s#","term":"small","depends":["http://schemas.ogf.org/occi/infrastructure#resource_tpl"],"attributes":{"occi.compute.cores":{"default":2},"occi.compute.memory":{"default":4}}},` +
		`{"scheme":"http://x/s#","term":"odd","depends":["http://schemas.ogf.org/occi/infrastructure#resource_tpl"],"attributes":{"occi.compute.cores":{"default":2}}},` +
		`{"scheme":"http://x/s#","term":"plain","depends":["http://schemas.ogf.org/occi/infrastructure#resource_tpl"],"attributes":{"occi.compute.cores":1,"occi.compute.memory":1.5}},` +
		`{"scheme":"http://x/i#","term":"debian","title":"Debian","depends":["http://schemas.ogf.org/occi/infrastructure#os_tpl"]},{"scheme":"http://x/i#","term":"w12","title":"Windows 12","depends":["http://schemas.ogf.org/occi/infrastructure#os_tpl"]},` +
		`{"scheme":"http://schemas.ogf.org/occi/infrastructure/network#","term":"ipnetwork"},{"scheme":"http://schemas.ogf.org/occi/infrastructure/credentials#","term":"ssh_key"}]}`,
	"the standard's, with user data": `{"kinds":[{"scheme":"http://schemas.ogf.org/occi/infrastructure#","term":"compute","location":"/machines/"}],"mixins":[{"scheme":"http://schemas.ogf.org/occi/infrastructure/compute#","term":"user_data"}]}`,
}

func listening(t *testing.T, query string, answers map[string]string) (*listener, *Driver) {
	t.Helper()
	l := &listener{answers: answers}
	l.Server = httptest.NewServer(l)
	t.Cleanup(l.Close)
	d := New("vega", l.URL, "sesame")
	if query != "" {
		l.answers = maps.Clone(answers)
		l.answers["GET /-/"] = strings.ReplaceAll(query, "HERE", l.URL)
	}
	return l, d
}

func (l *listener) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	fmt.Fprintf(&l.said, "   %s %s", r.Method, r.URL.RequestURI())
	for _, name := range []string{wire.HeaderKey, "Range", "Content-Range", wire.HeaderDigest, "Content-Type"} {
		if v := r.Header.Get(name); v != "" && v != wire.ContentType {
			fmt.Fprintf(&l.said, " · %s: %s", name, v)
		}
	}
	fmt.Fprintf(&l.said, " %s\n", body)
	answer, found := l.answers[r.Method+" "+r.URL.Path]
	if !found {
		if strings.HasPrefix(r.URL.Path, "/-/") || strings.HasPrefix(r.URL.Path, "/.well-known") {
			http.NotFound(w, r)
			return
		}
		answer = l.answers[""]
	}
	for header, rest, is := strings.Cut(answer, "|"); is; header, rest, is = strings.Cut(answer, "|") { // HEADER: VALUE|BODY, or a status
		answer = rest
		if name, v, field := strings.Cut(header, ": "); field {
			w.Header().Set(name, v)
			continue
		}
		var status int
		_, _ = fmt.Sscan(header, &status)
		w.WriteHeader(status)
	}
	_, _ = io.WriteString(w, answer)
}

// asked has one thing asked, and writes down what comes of it.
func (l *listener) asked(name string, ask func() (any, error)) {
	fmt.Fprintf(&l.said, " %s\n", name)
	got, err := ask()
	if err != nil {
		var after time.Duration
		if e := (*site.Error)(nil); errors.As(err, &e) {
			after = e.After
		}
		fmt.Fprintf(&l.said, "   ! %s %s: %s\n", site.ClassOf(err), after, strings.ReplaceAll(err.Error(), l.URL, "HERE"))
		return
	}
	text, err := json.Marshal(got)
	if err != nil {
		text = []byte(err.Error())
	}
	fmt.Fprintf(&l.said, "   = %s\n", strings.ReplaceAll(string(text), l.URL, "HERE"))
}

// requests are, for each kind of thing, one that says as little as can be, one for each field with that alone, and one with all.
func requests() []site.Request {
	full := reflect.ValueOf(site.Request{Hostname: "h", Zone: "a", Host: "a-1", Size: "small", Image: "debian", PublicKey: "ssh-ed25519 AAAA us", Cores: 2, MemoryGiB: 4, DiskGiB: 8, CIDR: "10.0.0.0/24", VLAN: "7", Source: "s", Target: "t",
		Address: "10.0.0.9", MAC: "02:00:00:00:00:01", Appliance: "load_balancer", Asleep: true, Memory: true, Ports: []int{22, 80}, Location: "/srv", Class: "fast", Bytes: 9, SHA256: "abc", Rename: "other", Tags: map[string]string{"owner": "map"}, Key: "k", Mark: "m"})
	var out []site.Request
	for _, kind := range slices.Sorted(maps.Keys(collections)) {
		least := site.Request{Kind: kind, Name: "x"}
		out = append(out, least)
		all := least
		for i := range full.NumField() {
			if full.Field(i).IsZero() {
				continue
			}
			one := least
			reflect.ValueOf(&one).Elem().Field(i).Set(full.Field(i))
			out = append(out, one)
			if name := full.Type().Field(i).Name; name != "Appliance" && name != "Memory" {
				reflect.ValueOf(&all).Elem().Field(i).Set(full.Field(i))
			}
		}
		plain := all // what no plain site has a word for
		plain.Asleep, plain.Tags, plain.Address, plain.VLAN = false, nil, "", "none"
		out = append(out, all, plain)
	}
	return out
}

// said is a request in short: its fields that are not empty.
func said(r site.Request) string {
	var out []string
	v := reflect.ValueOf(r)
	for i := range v.NumField() {
		if !v.Field(i).IsZero() {
			out = append(out, fmt.Sprint(v.Field(i).Interface()))
		}
	}
	return strings.Join(out, " ")
}

// TestWhatIsAskedForIsSaidAsBefore writes down what is said to sites of each sort when something is to be made or changed: to two of them with each field of a request alone, and to
// all with all of them.
func TestWhatIsAskedForIsSaidAsBefore(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	for _, sort := range slices.Sorted(maps.Keys(queries)) {
		l, d := listening(t, queries[sort], map[string]string{"": `{"kind":"x","id":"7","attributes":{"a":1}}`})
		for _, r := range requests() {
			if sort != "ours" && sort != "the standard's, with templates and keys" && r.Mark == "" {
				continue
			}
			l.asked("create "+said(r), func() (any, error) { _, err := d.Create(ctx, r); return nil, err })
			l.asked("change "+said(r), func() (any, error) { _, err := d.Change(ctx, r.Kind, "7", r); return nil, err })
		}
		fmt.Fprintf(&out, "== %s\n%s", sort, strings.ReplaceAll(l.said.String(), "   = null\n", ""))
	}
	golden.Is(t, "testdata/said.txt", out.String())
}

// heard are answers that sites give, to whatever is asked.
var heard = map[string]string{
	"nothing":                   "",
	"nothing but where":         "201|",
	"where, in a field":         "Location: http://elsewhere/machines/9|201|{}",
	"where, in text":            "Content-Type: text/plain|201|X-OCCI-Location: http://elsewhere/machines/9\n",
	"where, as a list":          "Content-Type: text/uri-list|201|http://elsewhere/machines/9\n",
	"text, and nothing made":    "Content-Type: text/plain|200|X-OCCI-Location: http://elsewhere/machines/9\n",
	"text of other things":      "Content-Type: text/plain|201|Category: compute; scheme=\"x\"\nX-OCCI-Attribute: a=\"1\"\n",
	"text that is none":         "Content-Type: text/plain|201|\x01\x02",
	"a thing with an id alone":  `{"id":"urn:uuid:9"}`,
	"a thing":                   `{"kind":"x","id":"urn:uuid:9","title":"n","summary":"m","attributes":{"occi.compute.state":"active","occi.storage.state":"online","occi.network.state":"error"}}`,
	"no room":                   `409|{"message":"no room"}`,
	"not there":                 `404|{}`,
	"gone":                      `410|gone`,
	"too many":                  `Retry-After: 7|429|{"message":"slowly"}`,
	"too many, at once":         `Retry-After: 0|429|`,
	"too many, never":           `Retry-After: -1|429|`,
	"too many, for ever":        `Retry-After: 999999|429|`,
	"it took too long":          `408|`,
	"it is broken":              `500|{"message":""}`,
	"it is just not OK":         `300|{"message":"choose"}`,
	"rubbish":                   `<html>`,
	"measures":                  `{"machines":[{"id":"a","values":{"cores":1,"less":-1}},{"id":"","values":{"cores":1}},{"id":"b","values":{"less":-1}},{"id":"c","values":{"cores":0}}]}`,
	"extents":                   `{"size":100,"epoch":"e","upto":3,"whole":true,"written":[[0,10],[90,10]],"zero":[[20,5]],"layers":0,"bytes":7,"wire":3,"holes":2,"verified":7,"seconds":1.5}`,
	"extents outside":           `{"size":100,"written":[[91,10]]}`,
	"extents before":            `{"size":100,"zero":[[-1,10]]}`,
	"extents of nothing":        `{"size":100,"zero":[[1,0]]}`,
	"rights":                    `{"attributes":{"andamio.access.account":"a","andamio.access.may":"x,,y","andamio.access.maynot":"z","andamio.access.regions":"r","andamio.access.first_use":true,"andamio.access.token":"t2"}}`,
	"how much there is of it":   `{"attributes":{"andamio.object.received":12,"occi.storage.size":3},"id":"7","kind":"x","title":"` + keep.Copy{Of: "v", Name: "s", Taken: time.Unix(1e9, 0)}.String() + `"}`,
	"ports":                     `{"kind":"x#networkinterface","id":"7","attributes":{"occi.networkinterface.address":"10.0.0.9","andamio.reach.map":"22:20022,80:20080,odd","andamio.reach.ssh.user":"u","occi.networkinterface.state":"active"},"source":{"location":"/compute/1"},"target":{"location":"/network/2"}}`,
	"ports that are what it is": `{"kind":"x","id":"7","attributes":{"occi.networkinterface.address":"10.0.0.9"}}`,
	"no address":                `{"kind":"x","id":"7","attributes":{"andamio.reach.map":""}}`,
	"being built":               `{"kind":"x","id":"7","attributes":{"occi.compute.state":"inactive","occi.compute.state.message":"building"}}`,
	"a suspended one":           `{"kind":"x","id":"7","attributes":{"occi.compute.state":"suspended"}}`,
	"a balancer":                `{"kind":"x","id":"7","attributes":{"andamio.balance.port":80,"andamio.balance.protocol":"http","andamio.balance.algorithm":"a","andamio.balance.look":"/","andamio.balance.member.x":"10.0.0.1:80","andamio.balance.member.y":""}}`,
	"a few":                     `{"resources":[{"kind":"x","id":"1","title":"a"},{"kind":"x","id":"2","title":"` + keep.Copy{Of: "v", Name: "s"}.String() + `"},{"kind":"x","id":"3","title":"c"},{"kind":"x","title":"nobody"}],"links":[{"kind":"y#z","id":"4","source":{"location":"/compute/1"}}]}`,
}

// asks are what can be asked of a site beside making and changing things.
func asks(d *Driver) map[string]func() (any, error) {
	of := func(name string, ask func(kinds.Kind) (any, error)) (string, func() (any, error)) {
		return name, func() (any, error) {
			var out []any
			for _, kind := range []kinds.Kind{kinds.Instance, kinds.Volume, kinds.Interface, kinds.Snapshot} {
				got, err := ask(kind)
				if err != nil {
					got = fmt.Sprintf("%s: %s", site.ClassOf(err), err)
				}
				out = append(out, got)
			}
			return out, nil
		}
	}
	out := map[string]func() (any, error){
		"describe":   func() (any, error) { return d.Describe(ctx) },
		"make":       func() (any, error) { return d.Create(ctx, site.Request{Kind: kinds.Instance, Name: "n"}) },
		"start":      func() (any, error) { return d.Invoke(ctx, kinds.Instance, "7", "start") },
		"access":     func() (any, error) { return d.Access(ctx) },
		"rotate":     func() (any, error) { return d.Rotate(ctx, "fresh") },
		"measure":    func() (any, error) { return d.Measure(ctx) },
		"changes":    func() (any, error) { return d.Changes(ctx, "7", "e", 4) },
		"hashes":     func() (any, error) { return d.Hashes(ctx, "7", site.Extent{Offset: 5, Length: 11}, 5) },
		"read disk":  func() (any, error) { return d.ReadDisk(ctx, "7", site.Extent{Offset: 5, Length: 7}) },
		"write disk": func() (any, error) { return nil, d.WriteDisk(ctx, "7", 5, []byte("abc")) },
		"copy": func() (any, error) {
			return d.Copy(ctx, "7", site.CopyRequest{Peer: "presa", Disk: "8", Written: []site.Extent{{Offset: 1, Length: 2}}, Zero: []site.Extent{{Offset: 3, Length: 4}}, Limit: 5, Compress: true, Round: 6})
		},
		"consolidate": func() (any, error) { return d.Consolidate(ctx, "7") },
		"release":     func() (any, error) { return nil, d.Release(ctx, "7", map[string]string{"80": "b:1", "22": "a:2"}) },
		"restore":     func() (any, error) { return nil, d.Restore(ctx, "7", "8") },
		"limit":       func() (any, error) { return nil, d.Limit(ctx, "7", site.IOLimit{PerSecond: 5, MiBPerSecond: 2.5}) },
		"upload":      func() (any, error) { return d.Upload(ctx, "7", 5, 20, []byte("abc")) },
		"unpack":      func() (any, error) { return d.Unpack(ctx, "7", "8", 2) },
		"self":        func() (any, error) { return d.Self(ctx) },
		"pair": func() (any, error) {
			return nil, d.Pair(ctx, site.Peer{Site: "p q", URL: "u", Key: "k", MayStart: true})
		},
		"part":  func() (any, error) { return nil, d.Part(ctx, "p q") },
		"grant": func() (any, error) { return nil, d.Grant(ctx, "p q", "7/8") },
		"try":   func() (any, error) { return d.Try(ctx, "p q") },
		"balance": func() (any, error) {
			return nil, d.Balance(ctx, "7", site.Balancing{Port: 80, Protocol: "http", Algorithm: "a", Look: "/"})
		},
		"enroll": func() (any, error) {
			return nil, d.Enroll(ctx, "7", site.Member{Name: "m", Address: "10.0.0.1", Port: 80})
		},
		"dismiss": func() (any, error) { return nil, d.Dismiss(ctx, "7", "m") },
		"balances": func() (any, error) {
			b, members, err := d.Balances(ctx, "7")
			return []any{b, members}, err
		},
		"notices": func() (any, error) {
			end, err := d.Push(ctx, site.Sink{URL: "u", Secret: "s", Authorities: "a"})
			if err == nil {
				err = end(ctx)
			}
			return nil, err
		},
	}
	for name, ask := range map[string]func(kinds.Kind) (any, error){
		"read":   func(k kinds.Kind) (any, error) { return d.Read(ctx, k, "7/8") },
		"list":   func(k kinds.Kind) (any, error) { return d.List(ctx, k) },
		"delete": func(k kinds.Kind) (any, error) { return nil, d.Delete(ctx, k, "7") },
		"page":   func(k kinds.Kind) (any, error) { return d.Page(ctx, site.Query{Kind: k}) },
		"page after": func(k kinds.Kind) (any, error) {
			return d.Page(ctx, site.Query{Kind: k, Size: 4, After: "3", Region: "east"})
		},
	} {
		name, ask := of(name, ask)
		out[name] = ask
	}
	return out
}

// TestWhatIsAnsweredIsTakenAsBefore has sites of each sort answer everything that is asked in every way, and holds by sums what was asked and what is made of the answer.
// Where one is another, SHOW_TAKEN=ANSWER writes all out that is made of that answer, to be compared with what was made of it before.
func TestWhatIsAnsweredIsTakenAsBefore(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	for i, sort := range slices.Sorted(maps.Keys(queries)) {
		fmt.Fprintf(&out, "== %s\n", sort)
		for _, answer := range slices.Sorted(maps.Keys(heard)) {
			l, d := listening(t, queries[sort], map[string]string{"": heard[answer]})
			if i%2 == 0 {
				for _, path := range []string{wire.PathAccess, wire.PathMeasures, wire.PathSelf} {
					l.answers["GET "+path], l.answers["POST "+path] = heard[answer], heard[answer]
				}
			}
			fmt.Fprintf(&out, "%s:", answer)
			all := asks(d)
			for _, name := range slices.Sorted(maps.Keys(all)) {
				if i > 1 && !slices.Contains([]string{"describe", "make", "read", "list", "page", "page after", "access", "delete", "restore", "start"}, name) {
					continue // it does not matter what sort of site it is
				}
				l.said.Reset()
				l.asked(name, all[name])
				if os.Getenv("SHOW_TAKEN") == answer {
					t.Logf("%s, %s:\n%s", sort, answer, l.said.String())
				}
				fmt.Fprintf(&out, " %s %s", name, golden.Sum(l.said.String()))
			}
			out.WriteByte('\n')
		}
	}
	golden.Is(t, "testdata/taken.txt", out.String())
}

// TestASiteIsReachedOnlyAsItIsToBe holds that whoever is gone through is the only one, and that without either nothing is changed.
func TestASiteIsReachedOnlyAsItIsToBe(t *testing.T) {
	t.Parallel()
	d := New("vega", "https://vega.test", "t")
	was := d.client.Transport
	d.Over(nil, nil)
	require.Equal(t, was, d.client.Transport)
}
