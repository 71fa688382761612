package main

import (
	"bufio"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Sizes of the inventories that are reconciled, and the most memory that the large one may take.
const (
	manyRows      = 1_000_000
	fewRows       = 100_000
	inventoryMost = 2_000_000_000
)

// inventories measures reconciling two files as a whole process, against the sqlite3 command that joins and compares the
// same two files. Where that is not installed there is nothing to compare with, and that is said.
func inventories(dir string) ([]result, error) {
	_, err := exec.LookPath("sqlite3")
	if errors.Is(err, exec.ErrNotFound) {
		fmt.Fprintln(os.Stderr, "inventory: not measured, sqlite3 is not installed")
		return nil, nil
	}
	few, _, err := reconciled(dir, fewRows, 0)
	if err != nil {
		return nil, err
	}
	sure, memory, err := reconciled(dir, manyRows, 0)
	if err != nil {
		return nil, err
	}
	joined, err := joined(dir)
	if err != nil {
		return nil, err
	}
	weighed, most, err := reconciled(dir, manyRows, 0.05)
	if err != nil {
		return nil, err
	}
	return []result{
		{name: "reconcile 1,000,000 rows, sure keys", figure: sure, ratio: ratio(sure, joined), base: "sqlite3 joins the files: " + show(joined), most: 1},
		{name: "the same, 5 % by weighted identity", figure: weighed, ratio: ratio(weighed, joined), base: "sqlite3 joins the files: " + show(joined), most: 2},
		{name: "ten times the rows", figure: sure, ratio: ratio(sure, few) / 10, base: "ten times 100,000: " + show(10*few), most: 1.25},
		{name: "peak memory then", ratio: float64(max(memory, most)) / inventoryMost, base: fmt.Sprintf("%d MB of 2,000", max(memory, most)/1_000_000), most: 1},
	}, nil
}

// reconciled writes two inventories of so many rows, of which a share has lost its keys, and reconciles them. It returns
// the time and the peak memory, in bytes.
func reconciled(dir string, rows int, lost float64) (time.Duration, int64, error) {
	want, err := writeInventories(dir, rows, lost)
	if err != nil {
		return 0, 0, err
	}
	out, err := os.Create(filepath.Join(dir, "findings.json"))
	if err != nil {
		return 0, 0, err
	}
	defer out.Close()
	cmd := exec.Command(binary, "reconcile", "--json", "--workspace", filepath.Join(dir, "inventory"),
		"--recorded", filepath.Join(dir, "recorded.csv"), "--observed", filepath.Join(dir, "observed.csv"))
	cmd.Stdout = out
	took, err := timed(cmd)
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 1 { // there are findings
		err = nil
	}
	if err != nil {
		return 0, 0, err
	}
	if err := counted(out.Name(), want, lost); err != nil {
		return 0, 0, err
	}
	used, _ := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	return took, used.Maxrss << 10, nil
}

// counted looks that what was changed is what was found: a fast answer that is wrong is worth nothing.
func counted(file string, want map[string]int, lost float64) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	for kind, n := range want {
		got := strings.Count(string(data), `"type":"`+kind+`"`)
		if lost == 0 && got != n || float64(got) < 0.98*float64(n) || float64(got) > 1.02*float64(n) {
			return fmt.Errorf("%d of %d %s were found", got, n, kind)
		}
	}
	return nil
}

// attributes are the thirty that are compared.
func attributes() []string {
	out := []string{"zone", "cores", "memory_gib", "disk_gib", "size", "image", "hostname", "mac", "inside_address", "state"}
	for i := len(out); i < 30; i++ {
		out = append(out, fmt.Sprintf("tag.t%02d", i))
	}
	return out
}

// writeInventories writes recorded.csv and observed.csv: 3 % changed, 1 % unmanaged, 1 % missing, and of the rest a share
// that is known by weighted evidence alone. It returns how many findings of each sort there are.
func writeInventories(dir string, rows int, lost float64) (map[string]int, error) {
	rng := rand.New(rand.NewPCG(uint64(rows), 3))
	files := [2]*bufio.Writer{}
	for i, name := range []string{"recorded.csv", "observed.csv"} {
		f, err := os.Create(filepath.Join(dir, name))
		if err != nil {
			return nil, err
		}
		defer f.Close()
		files[i] = bufio.NewWriterSize(f, 1<<20)
		fmt.Fprintf(files[i], "id,class,name,site,provider_id,%s\n", strings.Join(attributes(), ","))
	}
	sites := []string{"presa", "vega", "alisio-norte", "alisio-sur", "tramonta"}
	want := map[string]int{"changed": 0, "unmanaged": 0, "missing": 0}
	for i := range rows {
		row := row(i, sites[i%len(sites)])
		seen := append([]string(nil), row...)
		seen[0] = "seen-" + strconv.Itoa(i)
		kind := ""
		switch x := rng.Float64(); {
		case x < 0.01:
			kind = "missing"
		case x < 0.02:
			kind = "unmanaged"
		case x < 0.05:
			kind, seen[7] = "changed", "999"
		case x < 0.05+lost:
			seen[4] = "restored-" + strconv.Itoa(i)
		}
		if kind != "" {
			want[kind]++
		}
		if kind != "unmanaged" {
			fmt.Fprintln(files[0], strings.Join(row, ","))
		} else { // nothing of it is like anything recorded
			seen[2], seen[4], seen[11], seen[12], seen[13] = "new-"+seen[2], "new-"+seen[4], "", "fe:"+strconv.Itoa(i), ""
		}
		if kind != "missing" {
			fmt.Fprintln(files[1], strings.Join(seen, ","))
		}
	}
	return want, errors.Join(files[0].Flush(), files[1].Flush())
}

func row(i int, site string) []string {
	tier, n := strconv.Itoa(i/5), strconv.Itoa(i%5)
	cores := 1 << (i / 5 % 4)
	out := []string{"r" + strconv.Itoa(i), "instance", "tier" + tier + "-" + n, site, site + "-" + strconv.Itoa(i), "a", strconv.Itoa(cores), strconv.Itoa(4 * cores), "20",
		"s" + strconv.Itoa(cores), "debian-12", "tier" + tier + "-" + n + ".ribera.test", fmt.Sprintf("02:00:%02x:%02x:%02x:%02x", i>>24&255, i>>16&255, i>>8&255, i&255),
		fmt.Sprintf("10.%d.%d.%d", i>>16&255, i>>8&255, i&255), "active"}
	for k := len(out) - 5; k < 30; k++ {
		out = append(out, "v"+strconv.Itoa((i*7+k)%50))
	}
	return out
}

// joined has sqlite3 read the two files, index their keys, join and compare them.
func joined(dir string) (time.Duration, error) {
	var differ []string
	for _, a := range append([]string{"name"}, attributes()...) {
		differ = append(differ, fmt.Sprintf("r.%q <> o.%q", a, a))
	}
	script := fmt.Sprintf(`.mode csv
.import %s r
.import %s o
CREATE INDEX ri ON r (site, provider_id);
CREATE INDEX oi ON o (site, provider_id);
SELECT count(*) FROM r WHERE NOT EXISTS (SELECT 1 FROM o WHERE o.site = r.site AND o.provider_id = r.provider_id);
SELECT count(*) FROM o WHERE NOT EXISTS (SELECT 1 FROM r WHERE o.site = r.site AND o.provider_id = r.provider_id);
SELECT count(*) FROM r JOIN o ON o.site = r.site AND o.provider_id = r.provider_id WHERE %s;
`, filepath.Join(dir, "recorded.csv"), filepath.Join(dir, "observed.csv"), strings.Join(differ, " OR "))
	cmd := exec.Command("sqlite3", ":memory:")
	cmd.Stdin = strings.NewReader(script)
	return timed(cmd)
}
