package ovf

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// qemuImg runs QEMU's tool for disk images, or skips the test where there is none.
func qemuImg(t *testing.T, args ...string) {
	t.Helper()
	tool(t, "qemu-img", args...)
}

func tool(t *testing.T, name string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("there is no %s here", name)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// plainDisk is a disk of so many bytes, with text, noise and holes.
func plainDisk(t *testing.T, size int) (file string, data []byte) {
	t.Helper()
	data = make([]byte, size)
	copy(data[1<<20:], strings.Repeat("level 1.10 m at presa\n", 40_000))
	_, _ = rand.Read(data[5<<20 : 5<<20+300_000])
	copy(data[size-1000:], "the end")
	file = filepath.Join(t.TempDir(), "disk.raw")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	return file, data
}

// TestImagesThatOthersMakeAreRead has QEMU's own tool make images of every sort that packages have.
func TestImagesThatOthersMakeAreRead(t *testing.T) {
	for _, size := range []int{16 << 20, 16<<20 + 5*512} {
		raw, want := plainDisk(t, size)
		for name, args := range map[string][]string{
			"qcow2":                  {"-O", "qcow2"},
			"qcow2 of version 2":     {"-O", "qcow2", "-o", "compat=0.10"},
			"qcow2, small clusters":  {"-O", "qcow2", "-o", "cluster_size=4k"},
			"qcow2, deflate":         {"-O", "qcow2", "-c"},
			"qcow2, deflate, small":  {"-O", "qcow2", "-c", "-o", "cluster_size=512"},
			"qcow2, deflate, large":  {"-O", "qcow2", "-c", "-o", "cluster_size=2M"},
			"qcow2, zstd":            {"-O", "qcow2", "-c", "-o", "compression_type=zstd"},
			"VMDK, sparse":           {"-O", "vmdk"},
			"VMDK, stream optimized": {"-O", "vmdk", "-o", "subformat=streamOptimized"},
		} {
			t.Run(fmt.Sprint(name, " of ", size), func(t *testing.T) {
				file := filepath.Join(t.TempDir(), "image")
				qemuImg(t, append(append([]string{"convert", "-q", "-f", "raw"}, args...), raw, file)...)
				data, err := os.ReadFile(file)
				require.NoError(t, err)
				m, err := ReadImage(bytes.NewReader(data), int64(len(data)))
				require.NoError(t, err)
				assert.EqualValues(t, size, m.Size)
				got := make([]byte, size)
				for _, x := range m.Held() {
					_, err := m.ReadAt(got[x.Offset:x.Offset+x.Length], x.Offset)
					require.NoError(t, err)
				}
				assert.True(t, bytes.Equal(want, got), "it holds what the disk held")
				part := make([]byte, 70_000)
				_, err = m.ReadAt(part, 1<<20-500)
				require.NoError(t, err)
				assert.True(t, bytes.Equal(want[1<<20-500:][:70_000], part), "from anywhere")
				for cut := 1; cut < 20; cut++ { // one that was cut off, or changed anywhere, is refused or read; the program lives
					part := data[:len(data)*cut/20]
					if m, err := ReadImage(bytes.NewReader(part), int64(len(part))); err == nil {
						_, _ = m.ReadAt(got, 0)
					}
				}
			})
		}
	}
	raw, _ := plainDisk(t, 8<<20)
	dir := t.TempDir()
	qemuImg(t, "convert", "-q", "-f", "raw", "-O", "vmdk", raw, filepath.Join(dir, "base.vmdk"))
	qemuImg(t, "create", "-q", "-f", "vmdk", "-b", filepath.Join(dir, "base.vmdk"), "-F", "vmdk", filepath.Join(dir, "top.vmdk"))
	data, err := os.ReadFile(filepath.Join(dir, "top.vmdk"))
	require.NoError(t, err)
	_, err = ReadImage(bytes.NewReader(data), int64(len(data)))
	assert.ErrorContains(t, err, "builds on another file")
}

// foreign is a descriptor as others write them, of a machine with one disk.
func foreign(href, attributes string, bytes int) string {
	return fmt.Sprintf(`<?xml version='1.0' encoding='UTF-8'?>
<ovf:Envelope xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/2" xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData" xmlns:sasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_StorageAllocationSettingData">
  <ovf:References><ovf:File ovf:href=%q ovf:id="f1" %s/></ovf:References>
  <ovf:DiskSection><ovf:Info>Disks</ovf:Info><ovf:Disk ovf:capacity="%d" ovf:capacityAllocationUnits="byte * 2^10" ovf:diskId="vmdisk1" ovf:fileRef="f1"/></ovf:DiskSection>
  <ovf:NetworkSection><ovf:Info>n</ovf:Info><ovf:Network ovf:name="Service LAN"/></ovf:NetworkSection>
  <ovf:VirtualSystem ovf:id="Gauge Archive (2)"><ovf:Info>A machine</ovf:Info>
    <ovf:OperatingSystemSection ovf:id="96"><ovf:Info>Debian</ovf:Info></ovf:OperatingSystemSection>
    <ovf:VirtualHardwareSection><ovf:Info>h</ovf:Info>
      <ovf:Item><rasd:ElementName>2 virtual CPU</rasd:ElementName><rasd:InstanceID>1</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>2</rasd:VirtualQuantity></ovf:Item>
      <ovf:Item><rasd:AllocationUnits>byte * 2^30</rasd:AllocationUnits><rasd:ElementName>4 GB</rasd:ElementName><rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType><rasd:VirtualQuantity>4</rasd:VirtualQuantity></ovf:Item>
      <ovf:StorageItem><sasd:AddressOnParent>0</sasd:AddressOnParent><sasd:ElementName>Hard disk 1</sasd:ElementName><sasd:HostResource>ovf:/disk/vmdisk1</sasd:HostResource><sasd:InstanceID>4</sasd:InstanceID><sasd:ResourceType>17</sasd:ResourceType></ovf:StorageItem>
    </ovf:VirtualHardwareSection>
  </ovf:VirtualSystem>
</ovf:Envelope>
`, href, attributes, bytes>>10)
}

// theirs is a folder in which a package is put together with others' tools.
type theirs struct {
	*testing.T
	dir   string
	files []string
}

func (p *theirs) put(name string, data []byte) {
	p.Helper()
	require.NoError(p, os.WriteFile(filepath.Join(p.dir, name), data, 0o600))
	p.files = append(p.files, name)
}

// open packs the folder with tar, and opens what comes of it.
func (p *theirs) open() (*Archive, error) {
	p.Helper()
	file := filepath.Join(p.TempDir(), "package.ova")
	tool(p.T, "tar", append([]string{"--format=ustar", "-C", p.dir, "-cf", file}, p.files...)...)
	data, err := os.ReadFile(file)
	require.NoError(p, err)
	return Open(bytes.NewReader(data), int64(len(data)))
}

// TestPackagesThatOthersMakeAreRead puts packages together by hand, in the forms that there are.
func TestPackagesThatOthersMakeAreRead(t *testing.T) {
	const size = 16 << 20
	raw, want := plainDisk(t, size)
	image := filepath.Join(t.TempDir(), "image")
	qemuImg(t, "convert", "-q", "-f", "raw", "-O", "vmdk", "-o", "subformat=streamOptimized", raw, image)
	data, err := os.ReadFile(image)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		put    func(p *theirs)
		doubts string
	}{
		"no manifest": {func(p *theirs) {
			p.put("a.ovf", []byte(foreign("disk one.vmdk", "", size)))
			p.put("disk one.vmdk", data)
		}, "it has no manifest"},
		"a name that is escaped": {func(p *theirs) {
			p.put("a.ovf", []byte(foreign("disk%20one.vmdk", "", size)))
			p.put("disk one.vmdk", data)
		}, "it has no manifest"},
		"by sha1sum": {func(p *theirs) {
			p.put("a.ovf", []byte(foreign("d.vmdk", "", size)))
			p.put("d.vmdk", data)
			p.put("a.mf", []byte(tool(t, "sh", "-c", "cd "+p.dir+" && sha1sum a.ovf d.vmdk")))
		}, "its digests are SHA-1"},
		"by openssl": {func(p *theirs) {
			p.put("a.ovf", []byte(foreign("d.vmdk", "", size)))
			p.put("d.vmdk", data)
			p.put("a.mf", []byte(tool(t, "sh", "-c", "cd "+p.dir+" && openssl dgst -sha512 a.ovf d.vmdk | sed 's/$/\\r/'")))
		}, ""},
		"gzip": {func(p *theirs) {
			var z bytes.Buffer
			w := gzip.NewWriter(&z)
			_, _ = w.Write(data)
			require.NoError(t, w.Close())
			p.put("a.ovf", []byte(foreign("d.vmdk.gz", `ovf:compression="gzip"`, size)))
			p.put("d.vmdk.gz", z.Bytes())
		}, "it has no manifest"},
		"chunks": {func(p *theirs) {
			const each = 100_000
			p.put("a.ovf", []byte(foreign("d.vmdk", fmt.Sprintf(`ovf:chunkSize="%d" ovf:size="%d"`, each, len(data)), size)))
			for n := 0; n*each < len(data); n++ {
				p.put(fmt.Sprintf("d.vmdk.%09d", n), data[n*each:min((n+1)*each, len(data))])
			}
			p.put("a.mf", []byte(tool(t, "sh", "-c", "cd "+p.dir+" && sha256sum "+strings.Join(p.files, " "))))
		}, ""},
		"signed": {func(p *theirs) {
			p.put("a.ovf", []byte(foreign("d.vmdk", "", size)))
			p.put("d.vmdk", data)
			p.put("a.mf", []byte(tool(t, "sh", "-c", "cd "+p.dir+" && openssl dgst -sha256 a.ovf d.vmdk")))
			p.sign()
		}, "it is signed by CN=Ribera Packages"},
	} {
		t.Run(name, func(t *testing.T) {
			p := &theirs{T: t, dir: t.TempDir()}
			c.put(p)
			a, err := p.open()
			require.NoError(t, err)
			assert.Equal(t, Package{Name: "Gauge-Archive--2", Hostname: "Gauge-Archive--2", Description: "A machine", Cores: 2, MemoryGiB: 4, OS: "linux", Networks: []string{"Service-LAN"},
				Disks: []Disk{{Name: "Hard-disk-1", Bytes: size, File: a.Disks[0].File}}}, a.Package)
			got := make([]byte, size)
			_, err = a.Image(0).ReadAt(got, 0)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(want, got))
			if c.doubts == "" {
				assert.Empty(t, a.Doubts)
				return
			}
			require.Len(t, a.Doubts, 1)
			assert.Contains(t, a.Doubts[0], c.doubts)
		})
	}
}

// sign signs the manifest with openssl.
func (p *theirs) sign() {
	p.Helper()
	tool(p.T, "sh", "-c", "cd "+p.dir+` && openssl req -x509 -newkey rsa:2048 -nodes -keyout key.pem -out cert.pem -subj "/CN=Ribera Packages" 2>/dev/null &&
(echo "SHA256(a.mf)= $(openssl dgst -sha256 -sign key.pem a.mf | od -An -v -tx1 | tr -d ' \n')"; cat cert.pem) >a.cert`)
	p.files = append(p.files, "a.cert")
}

// TestASignatureThatIsNotOfTheManifestIsRefused changes a signed package with its manifest.
func TestASignatureThatIsNotOfTheManifestIsRefused(t *testing.T) {
	raw, _ := plainDisk(t, 6<<20)
	image := filepath.Join(t.TempDir(), "image")
	qemuImg(t, "convert", "-q", "-f", "raw", "-O", "qcow2", raw, image)
	data, err := os.ReadFile(image)
	require.NoError(t, err)
	p := &theirs{T: t, dir: t.TempDir()}
	p.put("a.ovf", []byte(foreign("d.qcow2", "", 6<<20)))
	p.put("d.qcow2", data)
	p.put("a.mf", []byte(tool(t, "sh", "-c", "cd "+p.dir+" && openssl dgst -sha256 a.ovf d.qcow2")))
	p.sign()
	_, err = p.open()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "a.ovf"), []byte(strings.Replace(foreign("d.qcow2", "", 6<<20), "2 virtual", "3 virtual", 1)), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "a.mf"), []byte(tool(t, "sh", "-c", "cd "+p.dir+" && openssl dgst -sha256 a.ovf d.qcow2")), 0o600))
	_, err = p.open()
	assert.ErrorContains(t, err, "its signature is not that of the manifest")
	cert, err := os.ReadFile(filepath.Join(p.dir, "a.cert"))
	require.NoError(t, err)
	line, _, _ := strings.Cut(string(cert), "\n")
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "a.cert"), []byte(line), 0o600))
	_, err = p.open()
	assert.ErrorContains(t, err, "no certificate")
}

// TestGzipIsReadFromAnywhere reads a compressed file at random places, until its patience ends.
func TestGzipIsReadFromAnywhere(t *testing.T) {
	data := []byte(strings.Repeat("0123456789abcdef", 1<<12))
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write(data)
	require.NoError(t, w.Close())
	z, n, err := unzipped(bytes.NewReader(b.Bytes()), int64(b.Len()), int64(len(data)))
	require.NoError(t, err)
	require.EqualValues(t, len(data), n)
	part := make([]byte, 100)
	for _, at := range []int64{5, 60_000, 3, 65_000, 0} {
		_, err := z.ReadAt(part, at)
		require.NoError(t, err)
		assert.Equal(t, string(data[at:at+100]), string(part))
	}
	k, err := z.ReadAt(part, n-10)
	assert.Equal(t, 10, k)
	assert.ErrorContains(t, err, "EOF")
	for range 100_000 {
		if _, err = z.ReadAt(part, 60_000); err != nil {
			break
		}
		if _, err = z.ReadAt(part, 0); err != nil {
			break
		}
	}
	assert.ErrorContains(t, err, "in too wild an order")
	_, _, err = unzipped(bytes.NewReader(b.Bytes()[:b.Len()-9]), int64(b.Len()-9), int64(len(data)))
	assert.ErrorContains(t, err, "is damaged")
}
