package tmpbench

import (
	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
	"fmt"
	"go.yaml.in/yaml/v4"
	"os"
	"runtime"
	"testing"
	"time"
)

func big(n int) *estate.Estate {
	e := &estate.Estate{Version: estate.Version, Currency: "cr"}
	for i := 0; i < 3; i++ {
		e.Sites = append(e.Sites, &estate.Site{Name: fmt.Sprint("s", i), Kind: estate.Public, Network: estate.Address, Pace: 1,
			Zones: []estate.Zone{{Name: "a", Free: estate.Capacity{Cores: 100000, MemoryGiB: 1000000, DiskGiB: 1e9}}},
			Sizes: []estate.Size{{Name: "s", Cores: 2, MemoryGiB: 4, PricePerHour: 0.1}}, Images: []estate.Image{{Name: "d", OS: "linux"}}})
	}
	return e
}
func TestM(t *testing.T) {
	for _, f := range []string{"t10.yaml", "t20.yaml"} {
		data, _ := os.ReadFile("/tmp/b/" + f)
		for k := 0; k < 4; k++ {
			runtime.GC()
			t0 := time.Now()
			var doc yaml.Node
			yaml.Unmarshal(data, &doc)
			y := time.Since(t0)
			doc = yaml.Node{}
			runtime.GC()
			t0 = time.Now()
			tm, ds := tosca.Read(f, func(p string) ([]byte, error) { return os.ReadFile("/tmp/b/" + p) })
			r := time.Since(t0)
			if len(ds) > 0 {
				t.Log(ds[0])
			}
			t1 := time.Now()
			d, ds := topology.Build(tm, nil, topology.Options{})
			b := time.Since(t1)
			if d == nil {
				t.Fatal(ds)
			}
			t1 = time.Now()
			pl, err := placement.Solve(plan.Problem(d, big(1)))
			s := time.Since(t1)
			if err != nil {
				t.Fatal(err)
			}
			t1 = time.Now()
			p, err := plan.Compile(d, pl, big(1), plan.Options{})
			c := time.Since(t1)
			if err != nil {
				t.Fatal(err)
			}
			all := time.Since(t0)
			t.Log("yaml", y, "read", r, "build", b, "place", s, "compile", c, len(p.Steps), "all", all, "ratio", float64(all)/float64(y))
		}
	}
}
