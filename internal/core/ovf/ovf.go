// Package ovf packs workloads and unpacks them: a descriptor of the Open Virtualization Format 1.1 (DMTF DSP0243), disk
// images, and a manifest of their digests, in one archive (.ova).
//
// In goes a [Package] and readers of its disks; out comes the archive, or the other way round. A package that comes from
// elsewhere is not believed: see [Open].
package ovf

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"
)

// Package is a workload as it is packed.
type Package struct {
	Name, Hostname, Description string
	Cores                       int
	MemoryGiB                   float64
	// OS is "linux" or "windows".
	OS string
	// Disks are the machine's own first.
	Disks []Disk
	// Networks are the networks it is in, Ports those it answers on.
	Networks []string
	Ports    []int
	// Secrets are names of what was left out, and must be given again where it is unpacked.
	Secrets []string
}

// Disk is a disk of a packed workload.
type Disk struct {
	Name string
	// Bytes is its size, Location the folder it belongs to, "" for the machine's own.
	Bytes    int64
	Location string
	// File is the name of its image in the archive.
	File string
}

// Source reads a disk that is packed.
type Source struct {
	Held []Extent
	Read func(p []byte, off int64) error
}

// FormatURI names the format of disk images in descriptors.
const FormatURI = "http://www.gnome.org/~markmc/qcow-image-format.html"

// Write packs a workload. Images are written to spool first, since the manifest with their digests stands before them.
func Write(w io.Writer, p Package, disks []Source, spool io.ReadWriteSeeker, now time.Time) error {
	if err := p.check(); err != nil {
		return err
	}
	sums := map[string]string{}
	sizes := make([]int64, len(p.Disks))
	for i := range p.Disks {
		p.Disks[i].File = fmt.Sprintf("%s-disk%d.qcow2", p.Name, i+1)
		sum := sha256.New()
		if err := WriteImage(io.MultiWriter(spool, sum), p.Disks[i].Bytes, disks[i].Held, disks[i].Read); err != nil {
			return fmt.Errorf("disk %s: %w", p.Disks[i].Name, err)
		}
		sums[p.Disks[i].File] = hex.EncodeToString(sum.Sum(nil))
		n, err := ImageSize(p.Disks[i].Bytes, disks[i].Held)
		if err != nil {
			return err
		}
		sizes[i] = n
	}
	descriptor, err := p.descriptor(sizes)
	if err != nil {
		return err
	}
	if _, err := spool.Seek(0, io.SeekStart); err != nil {
		return err
	}
	name := p.Name + ".ovf"
	sum := sha256.Sum256(descriptor)
	manifest := fmt.Sprintf("SHA256(%s)= %x\n", name, sum)
	for _, d := range p.Disks {
		manifest += fmt.Sprintf("SHA256(%s)= %s\n", d.File, sums[d.File])
	}
	t := tar.NewWriter(w)
	put := func(name string, size int64, from io.Reader) error {
		if err := t.WriteHeader(&tar.Header{Name: name, Size: size, Mode: 0o644, ModTime: now.Truncate(time.Second), Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err := io.CopyN(t, from, size)
		return err
	}
	if err := put(name, int64(len(descriptor)), bytes.NewReader(descriptor)); err != nil {
		return err
	}
	if err := put(p.Name+".mf", int64(len(manifest)), strings.NewReader(manifest)); err != nil {
		return err
	}
	for i, d := range p.Disks {
		if err := put(d.File, sizes[i], spool); err != nil {
			return err
		}
	}
	return t.Close()
}

// plain is what packages and the files in them may be called.
var plain = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

func (p *Package) check() error {
	switch {
	case !plain.MatchString(p.Name):
		return fmt.Errorf("a package cannot be called %q", p.Name)
	case p.Cores < 1 || p.Cores > 4096 || p.MemoryGiB <= 0 || p.MemoryGiB > 1<<16:
		return fmt.Errorf("a machine of %d cores and %g GiB cannot be", p.Cores, p.MemoryGiB)
	case len(p.Disks) == 0 || len(p.Disks) > 32:
		return fmt.Errorf("a machine has from 1 to 32 disks, not %d", len(p.Disks))
	}
	return nil
}
