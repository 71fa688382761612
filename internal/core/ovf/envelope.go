package ovf

import (
	"bytes"
	"cmp"
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
)

// The parts of a descriptor that are written and read. Names are those of DSP0243, section 7 and 8, and of the resource
// allocation settings of CIM.
type envelope struct {
	XMLName    xml.Name   `xml:"Envelope"`
	References references `xml:"References"`
	Disks      []xmlDisk  `xml:"DiskSection>Disk"`
	Networks   []xmlNet   `xml:"NetworkSection>Network"`
	System     xmlSystem  `xml:"VirtualSystem"`
	Many       []struct{} `xml:"VirtualSystemCollection"`
}

type references struct {
	Files []xmlFile `xml:"File"`
}

type xmlFile struct {
	ID          string `xml:"id,attr"`
	Href        string `xml:"href,attr"`
	Size        int64  `xml:"size,attr"`
	Compression string `xml:"compression,attr"`
	ChunkSize   int64  `xml:"chunkSize,attr"`
}

type xmlDisk struct {
	ID       string `xml:"diskId,attr"`
	File     string `xml:"fileRef,attr"`
	Capacity int64  `xml:"capacity,attr"`
	Units    string `xml:"capacityAllocationUnits,attr"`
	Format   string `xml:"format,attr"`
	Parent   string `xml:"parentRef,attr"`
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
	Storage  []xmlItem `xml:"VirtualHardwareSection>StorageItem"`
	Ethernet []xmlItem `xml:"VirtualHardwareSection>EthernetPortItem"`
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

// readDescriptor reads a descriptor, with the files of its disks and what is doubted of it. Declarations of entities are refused: nothing is expanded that is
// not written there.
func readDescriptor(text []byte) (p *Package, files []xmlFile, doubts []string, err error) {
	if err := noDirectives(text); err != nil {
		return nil, nil, nil, err
	}
	var e envelope
	d := xml.NewDecoder(bytes.NewReader(text))
	d.Strict = true
	if err := d.Decode(&e); err != nil {
		return nil, nil, nil, fmt.Errorf("the descriptor cannot be read: %w", err)
	}
	if len(e.Many) > 0 {
		return nil, nil, nil, errors.New("it describes several machines together (VirtualSystemCollection); one is read: pack each by itself")
	}
	p = &Package{Name: plainly(e.System.ID, "machine"), Description: e.System.Info}
	p.Hostname = plainly(cmp.Or(e.System.Name, e.System.ID), p.Name)
	p.OS, doubts = system(e.System.OS.ID)
	for _, n := range e.Networks {
		p.Networks = append(p.Networks, plainly(n.Name, "network"))
	}
	places := e.System.properties(p)
	if err := e.System.hardware(p); err != nil {
		return nil, nil, nil, err
	}
	files, err = e.disks(p, places)
	return p, files, doubts, err
}

// system is what sort of system a number is of (CIM_OperatingSystem.OsType); of what is not known it is doubted.
func system(id int) (string, []string) {
	for name, of := range families {
		if slices.Contains(of, id) {
			return name, nil
		}
	}
	return "linux", []string{fmt.Sprintf("which system is on it is not known (number %d): it is taken for linux", id)}
}

// families are the numbers of operating systems by the image that they are built from: the first is what is written.
var families = map[string][]int{
	"linux":   {101, 36, 79, 80, 81, 82, 83, 84, 85, 86, 87, 88, 89, 90, 91, 92, 93, 94, 95, 96, 97, 98, 99, 100, 106, 107, 108, 109},
	"windows": {103, 67, 69, 70, 71, 72, 73, 74, 75, 76, 77, 78, 102, 104, 105, 110, 111, 112, 113, 114, 115, 116},
}

// properties takes what of the product's properties is ours, and returns the folders of disks.
func (x *xmlSystem) properties(p *Package) map[string]string {
	places := map[string]string{}
	for _, prop := range x.Products {
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
	return places
}

// hardware takes processors and memory.
func (x *xmlSystem) hardware(p *Package) error {
	for _, i := range x.all() {
		switch i.Type {
		case typeCPU:
			p.Cores = int(min(max(i.Quantity, -1), 1<<20))
		case typeMemory:
			unit, known := unitOf(cmp.Or(i.Units, "byte * 2^20"))
			if !known || i.Quantity < 0 || i.Quantity > 1<<46/unit {
				return fmt.Errorf("its memory is %d times %q", i.Quantity, i.Units)
			}
			p.MemoryGiB = float64(i.Quantity*unit) / (1 << 30)
		}
	}
	return nil
}

// all are the parts of the machine, of whichever of the forms that version 2 has beside that of version 1.
func (x *xmlSystem) all() []xmlItem { return slices.Concat(x.Items, x.Storage, x.Ethernet) }

// units are programmatic units (DSP0004, annex C), and the words that older descriptors have.
var units = map[string]int64{"": 1, "byte": 1, "bytes": 1, "kilobytes": 1 << 10, "megabytes": 1 << 20, "gigabytes": 1 << 30, "terabytes": 1 << 40,
	"byte*2^10": 1 << 10, "byte*2^20": 1 << 20, "byte*2^30": 1 << 30, "byte*2^40": 1 << 40, "byte*10^3": 1e3, "byte*10^6": 1e6, "byte*10^9": 1e9}

// percent is an octet of a URI that is written out (RFC 3986, section 2.1).
var percent = regexp.MustCompile(`%[0-9A-Fa-f]{2}`)

// unescaped is a reference as the file is called.
func unescaped(href string) string {
	return percent.ReplaceAllStringFunc(href, func(x string) string {
		b, _ := hex.DecodeString(x[1:])
		return string(b)
	})
}

func unitOf(text string) (int64, bool) {
	unit, known := units[strings.ToLower(strings.ReplaceAll(text, " ", ""))]
	return unit, known
}

// plainly is a name as a resource may be called; what has nothing of that is called otherwise.
func plainly(name, otherwise string) string {
	out := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', strings.ContainsRune("._-", r):
			return r
		}
		return '-'
	}, name)
	out = strings.Trim(out, "._-")
	if out = out[:min(len(out), 100)]; out == "" {
		return otherwise
	}
	return out
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

// disks takes the disks in the order of the machine's hardware, with the file of each.
func (e *envelope) disks(p *Package, places map[string]string) ([]xmlFile, error) {
	var files []xmlFile
	taken := map[string]bool{}
	for _, i := range e.System.all() {
		if i.Type != typeDisk {
			continue
		}
		id := path.Base(i.Host)
		k := slices.IndexFunc(e.Disks, func(d xmlDisk) bool { return d.ID == id })
		if k < 0 {
			return nil, fmt.Errorf("the machine has a disk %q, which the descriptor does not describe", id)
		}
		d := &e.Disks[k]
		if d.Parent != "" {
			return nil, fmt.Errorf("the disk %q builds on another, %q: pack it whole", id, d.Parent)
		}
		f := slices.IndexFunc(e.References.Files, func(f xmlFile) bool { return f.ID == d.File })
		if f < 0 {
			return nil, fmt.Errorf("the disk %q is in no file of the package", id)
		}
		file := e.References.Files[f]
		file.Href = unescaped(file.Href)
		if !isName(file.Href) {
			return nil, fmt.Errorf("the disk %q is in no file of the package: %q leads elsewhere", id, file.Href)
		}
		unit, known := unitOf(d.Units)
		if !known || d.Capacity <= 0 || d.Capacity > mostDisk/unit {
			return nil, fmt.Errorf("the disk %q is of %d times %q", id, d.Capacity, d.Units)
		}
		name := plainly(i.Name, "disk")
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("%s-%d", plainly(i.Name, "disk"), n)
		}
		taken[name] = true
		p.Disks = append(p.Disks, Disk{Name: name, Bytes: d.Capacity * unit, Location: places[id], File: file.Href})
		files = append(files, file)
	}
	return files, nil
}
