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
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
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

// Archive is a package that was opened and found to be what its manifest says.
type Archive struct {
	Package
	images []*Image
}

// Image is the i-th disk.
func (a *Archive) Image(i int) *Image { return a.images[i] }

// Bounds of archives.
const (
	mostFiles      = 64
	mostDescriptor = 1 << 20
)

// entry is a file in an archive.
type entry struct{ at, size int64 }

// Open reads an archive of so many bytes: its files by plain names, the descriptor first, each with the digest that the
// manifest says, and images that lead nowhere else. What is not so is refused.
func Open(r io.ReaderAt, length int64) (*Archive, error) {
	files, order, err := list(r, length)
	if err != nil {
		return nil, err
	}
	if len(order) == 0 || path.Ext(order[0]) != ".ovf" {
		return nil, errors.New("this is no package: the first file of its archive is no descriptor (.ovf)")
	}
	if err := verify(r, files, order); err != nil {
		return nil, err
	}
	d := files[order[0]]
	if d.size > mostDescriptor {
		return nil, fmt.Errorf("the descriptor is larger than %d bytes", mostDescriptor)
	}
	text := make([]byte, d.size)
	if _, err := r.ReadAt(text, d.at); err != nil {
		return nil, err
	}
	p, err := readDescriptor(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", order[0], err)
	}
	a := &Archive{Package: *p}
	for i := range a.Disks {
		f, there := files[a.Disks[i].File]
		if !there {
			return nil, fmt.Errorf("the disk %s is to be in %q, which the archive does not have", a.Disks[i].Name, a.Disks[i].File)
		}
		m, err := ReadImage(io.NewSectionReader(r, f.at, f.size), f.size)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", a.Disks[i].File, err)
		}
		if m.Size != a.Disks[i].Bytes {
			return nil, fmt.Errorf("%s is of a disk of %d bytes, and the descriptor says %d", a.Disks[i].File, m.Size, a.Disks[i].Bytes)
		}
		a.images = append(a.images, m)
	}
	return a, a.check()
}

// counter counts what is read, which says where a file of an archive begins.
type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// list finds the files of an archive.
func list(r io.ReaderAt, length int64) (map[string]entry, []string, error) {
	c := &counter{r: io.NewSectionReader(r, 0, length)}
	t := tar.NewReader(c)
	files := map[string]entry{}
	var order []string
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return files, order, nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("the archive is damaged or cut off: %w", err)
		}
		switch {
		case h.Typeflag != tar.TypeReg:
			return nil, nil, fmt.Errorf("the archive holds %q, which is no plain file", h.Name)
		case !plain.MatchString(h.Name):
			return nil, nil, fmt.Errorf("the archive holds %q: files of a package stand beside each other, and lead nowhere else", h.Name)
		case len(files) == mostFiles:
			return nil, nil, fmt.Errorf("the archive holds more than %d files", mostFiles)
		case files[h.Name].at != 0:
			return nil, nil, fmt.Errorf("the archive holds %q twice", h.Name)
		case h.Size > length-c.n:
			return nil, nil, fmt.Errorf("the archive is cut off in %s", h.Name)
		}
		files[h.Name] = entry{c.n, h.Size}
		order = append(order, h.Name)
	}
}

// line is one of a manifest (DSP0243, section 5.1).
var line = regexp.MustCompile(`^(SHA\d+)\(([^()]+)\)= *([0-9a-fA-F]+)$`)

// verify checks every file against the manifest.
func verify(r io.ReaderAt, files map[string]entry, order []string) error {
	i := slices.IndexFunc(order, func(name string) bool { return path.Ext(name) == ".mf" })
	if i < 0 {
		return errors.New("the package has no manifest (.mf), so nobody can say whether it is whole")
	}
	m := files[order[i]]
	if m.size > mostDescriptor {
		return errors.New("the manifest is too large to be one")
	}
	text := make([]byte, m.size)
	if _, err := r.ReadAt(text, m.at); err != nil {
		return err
	}
	sums := map[string]string{}
	for _, l := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		parts := line.FindStringSubmatch(strings.TrimSpace(l))
		if parts == nil {
			return fmt.Errorf("the manifest says %q, which is no digest of a file", l)
		}
		if parts[1] != "SHA256" {
			return fmt.Errorf("the manifest has digests of the kind %s; SHA256 is asked for", parts[1])
		}
		sums[parts[2]] = strings.ToLower(parts[3])
	}
	for _, name := range order {
		if ext := path.Ext(name); ext == ".mf" || ext == ".cert" {
			continue
		}
		want, listed := sums[name]
		if !listed {
			return fmt.Errorf("the manifest does not say the digest of %s", name)
		}
		sum := sha256.New()
		if _, err := io.Copy(sum, io.NewSectionReader(r, files[name].at, files[name].size)); err != nil {
			return err
		}
		if got := hex.EncodeToString(sum.Sum(nil)); got != want {
			return fmt.Errorf("%s is damaged: its digest is %s, and the manifest says %s", name, got[:16]+"…", want[:min(16, len(want))]+"…")
		}
	}
	return nil
}

// The parts of a descriptor that are written and read. Names are those of DSP0243, section 7 and 8, and of the resource
// allocation settings of CIM.
type envelope struct {
	XMLName    xml.Name   `xml:"Envelope"`
	References references `xml:"References"`
	Disks      []xmlDisk  `xml:"DiskSection>Disk"`
	Networks   []xmlNet   `xml:"NetworkSection>Network"`
	System     xmlSystem  `xml:"VirtualSystem"`
}

type references struct {
	Files []xmlFile `xml:"File"`
}

type xmlFile struct {
	ID   string `xml:"id,attr"`
	Href string `xml:"href,attr"`
	Size int64  `xml:"size,attr"`
}

type xmlDisk struct {
	ID       string `xml:"diskId,attr"`
	File     string `xml:"fileRef,attr"`
	Capacity int64  `xml:"capacity,attr"`
	Units    string `xml:"capacityAllocationUnits,attr"`
	Format   string `xml:"format,attr"`
}

type xmlNet struct {
	Name string `xml:"name,attr"`
}

type xmlSystem struct {
	ID       string    `xml:"id,attr"`
	Info     string    `xml:"Info"`
	Name     string    `xml:"Name"`
	OS       xmlOS     `xml:"OperatingSystemSection"`
	Items    []xmlItem `xml:"VirtualHardwareSection>Item"`
	Products []xmlProp `xml:"ProductSection>Property"`
}

type xmlOS struct {
	ID int `xml:"id,attr"`
}

type xmlItem struct {
	Name     string `xml:"ElementName"`
	Type     int    `xml:"ResourceType"`
	Quantity int64  `xml:"VirtualQuantity"`
	Units    string `xml:"AllocationUnits"`
	Host     string `xml:"HostResource"`
	Address  string `xml:"AddressOnParent"`
}

type xmlProp struct {
	Key      string `xml:"key,attr"`
	Value    string `xml:"value,attr"`
	Password bool   `xml:"password,attr"`
}

// Types of resources (CIM_ResourceAllocationSettingData).
const (
	typeCPU     = 3
	typeMemory  = 4
	typeNetwork = 10
	typeDisk    = 17
)

// Operating systems (CIM_OperatingSystem.OsType).
var systems = map[string]int{"linux": 101, "windows": 103}

// readDescriptor reads a descriptor. Declarations of entities are refused: nothing is expanded that is not written there.
func readDescriptor(text []byte) (*Package, error) {
	if err := noDirectives(text); err != nil {
		return nil, err
	}
	var e envelope
	d := xml.NewDecoder(bytes.NewReader(text))
	d.Strict = true
	if err := d.Decode(&e); err != nil {
		return nil, fmt.Errorf("the descriptor cannot be read: %w", err)
	}
	p := &Package{Name: e.System.ID, Hostname: e.System.Name, Description: e.System.Info, OS: "linux"}
	for name, id := range systems {
		if id == e.System.OS.ID {
			p.OS = name
		}
	}
	for _, n := range e.Networks {
		p.Networks = append(p.Networks, n.Name)
	}
	places := map[string]string{}
	for _, prop := range e.System.Products {
		switch {
		case prop.Password:
			p.Secrets = append(p.Secrets, prop.Key)
		case prop.Key == "ports":
			for _, f := range strings.Fields(prop.Value) {
				if n, err := strconv.Atoi(f); err == nil && n > 0 && n < 65536 {
					p.Ports = append(p.Ports, n)
				}
			}
		default:
			if disk, ok := strings.CutPrefix(prop.Key, "location."); ok {
				places[disk] = prop.Value
			}
		}
	}
	for _, i := range e.System.Items {
		switch i.Type {
		case typeCPU:
			p.Cores = int(i.Quantity)
		case typeMemory:
			p.MemoryGiB = float64(i.Quantity) / 1024
		}
	}
	return p, e.disks(p, places)
}

// noDirectives refuses document types and processing instructions beside the first.
func noDirectives(text []byte) error {
	d := xml.NewDecoder(bytes.NewReader(text))
	for depth := 0; ; {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the descriptor cannot be read: %w", err)
		}
		switch t.(type) {
		case xml.Directive:
			return errors.New("the descriptor declares a document type or entities, which are not expanded here")
		case xml.StartElement:
			if depth++; depth > 64 {
				return errors.New("the descriptor is nested too deeply")
			}
		case xml.EndElement:
			depth--
		}
	}
}

// disks takes the disks in the order of the machine's hardware.
func (e *envelope) disks(p *Package, places map[string]string) error {
	for _, i := range e.System.Items {
		if i.Type != typeDisk {
			continue
		}
		id := path.Base(i.Host)
		k := slices.IndexFunc(e.Disks, func(d xmlDisk) bool { return d.ID == id })
		if k < 0 {
			return fmt.Errorf("the machine has a disk %q, which the descriptor does not describe", id)
		}
		d := e.Disks[k]
		f := slices.IndexFunc(e.References.Files, func(f xmlFile) bool { return f.ID == d.File })
		if f < 0 || !plain.MatchString(e.References.Files[f].Href) {
			return fmt.Errorf("the disk %q is in no file of the package", id)
		}
		unit, known := map[string]int64{"": 1, "byte": 1, "byte * 2^10": 1 << 10, "byte * 2^20": 1 << 20, "byte * 2^30": 1 << 30}[d.Units]
		if !known || d.Capacity <= 0 || d.Capacity > mostDisk/unit {
			return fmt.Errorf("the disk %q is of %d times %q", id, d.Capacity, d.Units)
		}
		p.Disks = append(p.Disks, Disk{Name: i.Name, Bytes: d.Capacity * unit, Location: places[id], File: e.References.Files[f].Href})
	}
	return nil
}
