package libvirt

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"libvirt.org/go/libvirtxml"
	"pgregory.net/rapid"

	"andamio/internal/site"
)

// TestMarksAreReadAsTheyWereWritten has what is noted of a machine and of its links go through a definition, whatever they are called.
func TestMarksAreReadAsTheyWereWritten(t *testing.T) {
	text := rapid.StringMatching(`[ -~áéñ€]{0,40}`)
	rapid.Check(t, func(t *rapid.T) {
		own := mark{Name: text.Draw(t, "name"), Mark: text.Draw(t, "mark"), HostKey: text.Draw(t, "key"), Asleep: rapid.Bool().Draw(t, "asleep")}
		own.retag(map[string]string{"owner": text.Draw(t, "owner"), "night": "off"})
		link := mark{Name: text.Draw(t, "link"), Kind: "interface", Target: "n", MAC: "52:54:00:00:00:01", Begun: 7, Ports: "22,80"}
		got := marksIn(own.text(Namespace) + "<other xmlns='https://elsewhere.example'>x</other>" + link.text(linkSpace("vm.525400000001")))
		if len(got) != 2 {
			t.Fatalf("%d are read", len(got))
		}
		a, b := got[""], got["vm.525400000001"]
		a.XMLName, b.XMLName = own.XMLName, link.XMLName
		if len(a.Tags) == 0 {
			a.Tags = own.Tags
		}
		assert.Equal(t, own, a)
		b.Tags = link.Tags
		assert.Equal(t, link, b)
	})
	assert.Empty(t, marksIn("<what"), "what is no XML has none")
	assert.Empty(t, marksIn(`<thing xmlns="https://elsewhere.example" name="x"/>`), "nor what is another's")
}

func TestTagsComeAndGo(t *testing.T) {
	var m mark
	m.retag(map[string]string{"owner": "ana", "night": "off"})
	m.retag(map[string]string{"night": "", "stage": "test"})
	assert.Equal(t, map[string]string{"owner": "ana", "stage": "test"}, m.tags())
}

// TestAMachineIsDefinedAsItWasAskedFor reads a definition as a host does.
func TestAMachineIsDefinedAsItWasAskedFor(t *testing.T) {
	r := site.Request{Name: "store host", Hostname: "store", Cores: 3, MemoryGiB: 1.5}
	for kvm, want := range map[bool][2]string{true: {"kvm", "host-passthrough"}, false: {"qemu", "maximum"}} {
		text, err := machine("0123456789ab", r, mark{Name: r.Name, Mark: "a <mark> & more"}, kept{path: "/pool/d"}, kept{path: "/dev/vg/s", block: true}, kvm).Marshal()
		require.NoError(t, err)
		var def libvirtxml.Domain
		require.NoError(t, def.Unmarshal(text))
		assert.Equal(t, want, [2]string{def.Type, def.CPU.Mode})
		assert.Equal(t, "store-01234567", def.Name)
		assert.Equal(t, uint(3), def.VCPU.Value)
		assert.Equal(t, uint64(3<<29), inBytes(uint64(def.Memory.Value), def.Memory.Unit))
		assert.Equal(t, "a <mark> & more", marksIn(def.Metadata.XML)[""].Mark)
		require.Len(t, def.Devices.Disks, 2)
		assert.Equal(t, "/pool/d", sourceOf(&def.Devices.Disks[0]))
		assert.Equal(t, "/dev/vg/s", def.Devices.Disks[1].Source.Block.Dev, "a logical volume is a device")
		assert.NotNil(t, def.Devices.Disks[1].ReadOnly, "a seed is only read")
		assert.Equal(t, "/pool/andamio-0123456789ab.console", def.Devices.Serials[0].Log.File)
	}
	text, err := machine("0123456789ab", r, mark{}, kept{path: "/dev/vg/d", block: true}, kept{path: "/dev/vg/s", block: true}, false).Marshal()
	require.NoError(t, err)
	assert.NotContains(t, text, "<log", "beside a device nothing is kept")
}

func TestNamesOfVolumes(t *testing.T) {
	for name, want := range map[string][3]string{"andamio-x.data": {"x", ".data", "own"}, "andamio-a.b.note": {"a.b", ".note", "own"}, "disk.qcow2": {}, "andamio-x": {}, "": {}} {
		id, end, own := parted(name)
		assert.Equal(t, want, [3]string{id, end, map[bool]string{true: "own"}[own]}, name)
	}
	for name, want := range map[string]string{"levee.qcow2": "levee", "levee.img": "levee", "levee.raw": "levee", "levee": "levee", "levee.v2": "levee.v2"} {
		assert.Equal(t, want, imageName(name))
	}
	assert.Equal(t, uint64(1<<20), bytesOf(0.0001), "whole MiB")
	assert.Equal(t, uint64(3<<29), bytesOf(1.5))
	assert.Equal(t, "78dd43586a7c567e831c", shortSerial("78dd4358-6a7c-567e-831c-e3d6a87ad47b"))
	assert.Equal(t, "short", shortSerial("short"))
	for unit, want := range map[string]uint64{"": 2048, "KiB": 2048, "b": 2, "bytes": 2, "MiB": 2 << 20, "GiB": 2 << 30} {
		assert.Equal(t, want, inBytes(2, unit), unit)
	}
	assert.Regexp(t, `^52:54:00(:[0-9a-f]{2}){3}$`, macOf("x"))
	assert.NotEqual(t, macOf("x"), macOf("y"))
}
