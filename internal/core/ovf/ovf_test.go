package ovf

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// memory is a disk in memory for packing.
type memory struct {
	size int64
	held map[int64][]byte
}

func (m *memory) source() Source {
	var held []Extent
	for off := int64(0); off < m.size; off += cluster {
		if m.held[off] != nil {
			held = append(held, Extent{off, min(cluster, m.size-off)})
		}
	}
	return Source{held, func(p []byte, off int64) error { copy(p, m.held[off]); return nil }}
}

func scattered(size int64, seed uint64, n int) *memory {
	m := &memory{size, map[int64][]byte{}}
	rng := rand.New(rand.NewPCG(seed, 1))
	for range n {
		block := make([]byte, cluster)
		for i := range block[:512] {
			block[i] = byte(rng.Uint32())
		}
		m.held[rng.Int64N((size+cluster-1)/cluster)*cluster] = block
	}
	return m
}

var wanted = Package{Name: "contacts-host-1", Hostname: "contacts-host-1", Description: "the register <of> people & \"more\"", Cores: 4, MemoryGiB: 16, OS: "linux",
	Disks:    []Disk{{Name: "system", Bytes: 20 << 30}, {Name: "contacts-vol-1", Bytes: 80<<30 + 4096, Location: "/var/lib/contacts"}},
	Networks: []string{"contacts-lan"}, Ports: []int{5432}, Secrets: []string{"register_key"}}

// packed is an archive of the wanted package.
func packed(t testing.TB) []byte {
	t.Helper()
	spool, err := os.CreateTemp(t.TempDir(), "spool")
	require.NoError(t, err)
	defer spool.Close()
	p := wanted
	p.Disks = append([]Disk(nil), wanted.Disks...)
	var out bytes.Buffer
	require.NoError(t, Write(&out, p, []Source{scattered(20<<30, 1, 40).source(), scattered(80<<30+4096, 2, 5).source()}, spool, time.Unix(1e9, 0)))
	return out.Bytes()
}

func TestAPackageIsReadAsItWasWritten(t *testing.T) {
	data := packed(t)
	a, err := Open(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	want := wanted
	want.Disks = []Disk{{"system", 20 << 30, "", "contacts-host-1-disk1.qcow2"}, {"contacts-vol-1", 80<<30 + 4096, "/var/lib/contacts", "contacts-host-1-disk2.qcow2"}}
	assert.Equal(t, want, a.Package)
	m := scattered(20<<30, 1, 40)
	require.Len(t, a.Image(0).Held(), len(m.held))
	for off, block := range m.held {
		got := make([]byte, cluster)
		_, err := a.Image(0).ReadAt(got, off)
		require.NoError(t, err)
		require.Equal(t, block, got)
	}
}

// TestPublicToolsReadAPackage unpacks with tar, checks the digests with sha256sum and the disks with qemu-img.
func TestPublicToolsReadAPackage(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "p.ova"), packed(t), 0o600))
	tool := func(name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
		return string(out)
	}
	assert.Equal(t, []string{"contacts-host-1.ovf", "contacts-host-1.mf", "contacts-host-1-disk1.qcow2", "contacts-host-1-disk2.qcow2"}, strings.Fields(tool("tar", "tf", "p.ova")))
	tool("tar", "xf", "p.ova")
	manifest, err := os.ReadFile(filepath.Join(dir, "contacts-host-1.mf"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "sums"), []byte(strings.NewReplacer("SHA256(", "SHA256 (", ")= ", ") = ").Replace(string(manifest))), 0o600))
	assert.Equal(t, 3, strings.Count(tool("sha256sum", "--check", "sums"), ": OK"))
	for i, size := range []string{"21474836480", "85899350016"} {
		file := fmt.Sprintf("contacts-host-1-disk%d.qcow2", i+1)
		assert.Contains(t, tool("qemu-img", "info", file), size+" bytes")
		assert.Contains(t, tool("qemu-img", "check", file), "No errors were found")
	}
	raw := filepath.Join(dir, "raw")
	tool("qemu-img", "convert", "-O", "raw", "contacts-host-1-disk1.qcow2", raw)
	f, err := os.Open(raw)
	require.NoError(t, err)
	defer f.Close()
	for off, block := range scattered(20<<30, 1, 40).held {
		got := make([]byte, cluster)
		_, err := f.ReadAt(got, off)
		require.NoError(t, err)
		require.Equal(t, sha256.Sum256(block), sha256.Sum256(got))
	}
	t.Run("and what they write is read", func(t *testing.T) {
		tool("qemu-img", "convert", "-O", "qcow2", raw, "theirs.qcow2")
		theirs, err := os.Open(filepath.Join(dir, "theirs.qcow2"))
		require.NoError(t, err)
		defer theirs.Close()
		info, err := theirs.Stat()
		require.NoError(t, err)
		m, err := ReadImage(theirs, info.Size())
		require.NoError(t, err)
		for off, block := range scattered(20<<30, 1, 40).held {
			got := make([]byte, cluster)
			_, err := m.ReadAt(got, off)
			require.NoError(t, err)
			require.Equal(t, sha256.Sum256(block), sha256.Sum256(got))
		}
	})
}

// repacked is an archive of other files.
func repacked(t *testing.T, files ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		h := &tar.Header{Name: f[0], Size: int64(len(f[1])), Mode: 0o644}
		if strings.HasPrefix(f[1], "link:") {
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, f[1][5:], 0
		}
		require.NoError(t, w.WriteHeader(h))
		if h.Typeflag != tar.TypeSymlink {
			_, err := io.WriteString(w, f[1])
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// files are those of an archive, in order.
func files(t *testing.T, data []byte) [][2]string {
	t.Helper()
	r := tar.NewReader(bytes.NewReader(data))
	var out [][2]string
	for {
		h, err := r.Next()
		if err == io.EOF {
			return out
		}
		require.NoError(t, err)
		body, err := io.ReadAll(r)
		require.NoError(t, err)
		out = append(out, [2]string{h.Name, string(body)})
	}
}

func manifestOf(list [][2]string) string {
	var b strings.Builder
	for _, f := range list {
		if !strings.HasSuffix(f[0], ".mf") {
			fmt.Fprintf(&b, "SHA256(%s)= %x\n", f[0], sha256.Sum256([]byte(f[1])))
		}
	}
	return b.String()
}

func TestWhatIsNotWhatItSaysIsRefused(t *testing.T) {
	good := packed(t)
	list := files(t, good)
	with := func(change func([][2]string) [][2]string, sign bool) []byte {
		changed := change(append([][2]string(nil), list...))
		if sign {
			for i := range changed {
				if strings.HasSuffix(changed[i][0], ".mf") {
					changed[i][1] = manifestOf(changed)
				}
			}
		}
		return repacked(t, changed...)
	}
	set := func(i int, text string) func([][2]string) [][2]string {
		return func(l [][2]string) [][2]string { l[i][1] = text; return l }
	}
	swap := func(i int, old, now string) func([][2]string) [][2]string {
		return func(l [][2]string) [][2]string { l[i][1] = strings.Replace(l[i][1], old, now, 1); return l }
	}
	rename := func(i int, name string) func([][2]string) [][2]string {
		return func(l [][2]string) [][2]string { l[i][0] = name; return l }
	}
	image := list[2][1]
	patch := func(off int, b ...byte) string { return image[:off] + string(b) + image[off+len(b):] }
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"damaged disk":           {with(set(2, patch(len(image)-10, 1, 2, 3)), false), "is damaged"},
		"damaged descriptor":     {with(swap(0, "4 processors", "5 processors"), false), "is damaged"},
		"cut off":                {good[:len(good)/2], "cut off"},
		"file not in manifest":   {with(func(l [][2]string) [][2]string { return append(l, [2]string{"more.txt", "x"}) }, false), "does not say the digest"},
		"digest of other length": {with(swap(1, "SHA256(", "SHA1("), false), "no digest of the kind SHA1"},
		"unknown digest":         {with(swap(1, "SHA256(", "SHA3("), false), "of a kind that is not known"},
		"digest of nothing": {with(func(l [][2]string) [][2]string {
			l[1][1] += "SHA256(none)= " + strings.Repeat("ab", 32) + "\n"
			return l
		}, false), "digest of none, which the archive does not have"},
		"several machines":       {with(swap(0, "<VirtualSystem ", "<VirtualSystemCollection/><VirtualSystem "), true), "describes several machines"},
		"memory without end":     {with(swap(0, ">16384<", ">1638400000000000000<"), true), "its memory is"},
		"disk on another":        {with(swap(0, `ovf:fileRef="file1"`, `ovf:fileRef="file1" ovf:parentRef="disk2"`), true), "builds on another"},
		"compressed otherwise":   {with(swap(0, `ovf:id="file1"`, `ovf:id="file1" ovf:compression="bzip2"`), true), "gzip is read"},
		"no gzip":                {with(swap(0, `ovf:id="file1"`, `ovf:id="file1" ovf:compression="gzip"`), true), "and is not"},
		"no chunks":              {with(swap(0, `ovf:id="file1"`, `ovf:id="file1" ovf:chunkSize="65536"`), true), "disk1.qcow2.000000000"},
		"certificate of nothing": {with(func(l [][2]string) [][2]string { return append(append(l[:1], l[2:]...), [2]string{"x.cert", "x"}) }, false), "signs a manifest, and there is none"},
		"no certificate":         {with(func(l [][2]string) [][2]string { return append(l, [2]string{"x.cert", "hello"}) }, false), "not with the signature"},
		"nonsense manifest":      {with(set(1, "everything is fine"), false), "no digest of a file"},
		"path upwards":           {with(rename(2, "../../etc/passwd"), true), "lead nowhere else"},
		"absolute path":          {with(rename(2, "/etc/passwd"), true), "lead nowhere else"},
		"a link":                 {with(func(l [][2]string) [][2]string { l[2][1] = "link:/etc/passwd"; return l }, false), "no plain file"},
		"twice the same":         {with(func(l [][2]string) [][2]string { return append(l, l[2]) }, true), "twice"},
		"href upwards":           {with(swap(0, `ovf:href="contacts-host-1-disk1.qcow2"`, `ovf:href="../disk"`), true), "in no file of the package"},
		"entities":               {with(swap(0, "<Envelope", `<!DOCTYPE x [<!ENTITY a "aaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><Envelope`), true), "not expanded"},
		"outside entity":         {with(swap(0, "<Envelope", `<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><Envelope`), true), "not expanded"},
		"use of an entity":       {with(swap(0, "the register", "&b;"), true), "cannot be read"},
		"deep":                   {with(swap(0, "<Info>", strings.Repeat("<a>", 100)+strings.Repeat("</a>", 100)+"<Info>"), true), "nested too deeply"},
		"no descriptor first":    {repacked(t, list[1], list[0]), "no descriptor"},
		"nothing":                {repacked(t), "no descriptor"},
		"no archive":             {[]byte(strings.Repeat("no archive at all ", 100)), "damaged"},
		"other size":             {with(swap(0, `ovf:capacity="21474836480"`, `ovf:capacity="11474836480"`), true), "the descriptor says"},
		"endless size":           {with(swap(0, `ovf:capacity="21474836480"`, `ovf:capacity="9000000000000000000"`), true), "times"},
		"disk of no file":        {with(swap(0, `ovf:fileRef="file1"`, `ovf:fileRef="file7"`), true), "in no file"},
		"disk not described":     {with(swap(0, "ovf:/disk/disk1", "ovf:/disk/disk9"), true), "does not describe"},
		"no disk in archive":     {with(func(l [][2]string) [][2]string { return l[:3] }, true), "does not have"},
		"no cores":               {with(swap(0, "<rasd:VirtualQuantity>4<", "<rasd:VirtualQuantity>-4<"), true), "cannot be"},
		"image of another kind":  {with(set(2, "not an image"+image[12:]), true), "not of a format that is read"},
		"backing file":           {with(set(2, patch(8, 0, 0, 0, 0, 0, 0, 1, 0)), true), "builds on another file"},
		"encrypted":              {with(set(2, patch(32, 0, 0, 0, 1)), true), "encrypted"},
		"unknown feature":        {with(set(2, patch(72, 0, 0, 0, 0, 0, 0, 0, 4)), true), "not known here"},
		"tables outside":         {with(set(2, patch(40, 0x7f)), true), "lie outside"},
		"clusters of no size":    {with(set(2, patch(20, 0, 0, 0, 60)), true), "cannot be"},
		"short image":            {with(set(2, image[:50]), true), "too short"},
		"nothing of an image":    {with(set(2, "QF"), true), "too short"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Open(bytes.NewReader(c.data), int64(len(c.data)))
			require.ErrorContains(t, err, c.want)
		})
	}
	t.Run("tables that lead outside", func(t *testing.T) {
		for _, at := range []int{3, 4} { // the tables of the first and of the second level
			b := []byte(image)
			for off := at * cluster; off < (at+1)*cluster; off += 8 {
				if binary.BigEndian.Uint64(b[off:]) != 0 {
					binary.BigEndian.PutUint64(b[off:], 1<<62-cluster)
					break
				}
			}
			data := with(set(2, string(b)), true)
			_, err := Open(bytes.NewReader(data), int64(len(data)))
			require.Error(t, err)
		}
	})
}

func TestAnyDiskSurvivesItsImage(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.Int64Range(1, 3<<30).Draw(t, "size")
		m := scattered(size, rapid.Uint64().Draw(t, "seed"), rapid.IntRange(0, 12).Draw(t, "clusters"))
		var b bytes.Buffer
		src := m.source()
		if err := WriteImage(&b, size, src.Held, src.Read); err != nil {
			t.Fatal(err)
		}
		if n, err := ImageSize(size, src.Held); err != nil || n != int64(b.Len()) {
			t.Fatalf("%d bytes were announced and %d written (%v)", n, b.Len(), err)
		}
		img, err := ReadImage(bytes.NewReader(b.Bytes()), int64(b.Len()))
		if err != nil {
			t.Fatal(err)
		}
		if len(img.Held()) != len(m.held) {
			t.Fatalf("%d clusters of %d", len(img.Held()), len(m.held))
		}
		for off, block := range m.held {
			got := make([]byte, min(cluster, size-off))
			if _, err := img.ReadAt(got, off); err != nil || !bytes.Equal(got, block[:len(got)]) {
				t.Fatalf("the cluster at %d differs (%v)", off, err)
			}
		}
	})
}

func FuzzOpen(f *testing.F) {
	good := packed(f)
	f.Add(good)
	f.Add(good[:2048])
	f.Fuzz(func(_ *testing.T, data []byte) { _, _ = Open(bytes.NewReader(data), int64(len(data))) })
}

func FuzzReadImage(f *testing.F) {
	var b bytes.Buffer
	src := scattered(1<<20, 1, 3).source()
	require.NoError(f, WriteImage(&b, 1<<20, src.Held, src.Read))
	f.Add(b.Bytes()[:2*cluster])
	f.Add(b.Bytes())
	f.Fuzz(func(_ *testing.T, data []byte) {
		if m, err := ReadImage(bytes.NewReader(data), int64(len(data))); err == nil {
			_ = m.Held()
		}
	})
}
