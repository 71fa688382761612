package ovf

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
	"text/template"
)

// descriptor renders the descriptor of a package whose images have these sizes.
func (p *Package) descriptor(sizes []int64) ([]byte, error) {
	type disk struct {
		Disk
		Number int
		Size   int64
	}
	v := struct {
		*Package
		MemoryMiB int64
		System    int
		PortList  string
		All       []disk
	}{Package: p, MemoryMiB: int64(p.MemoryGiB * 1024), System: systemOf(p.OS)}
	for i, d := range p.Disks {
		v.All = append(v.All, disk{d, i + 1, sizes[i]})
	}
	ports := make([]string, len(p.Ports))
	for i, n := range p.Ports {
		ports[i] = strconv.Itoa(n)
	}
	v.PortList = strings.Join(ports, " ")
	var b bytes.Buffer
	if err := layout.Execute(&b, v); err != nil {
		return nil, fmt.Errorf("the descriptor cannot be written: %w", err)
	}
	return b.Bytes(), nil
}

// systemOf is the number of a system (CIM_OperatingSystem.OsType); 0 is unknown.
func systemOf(name string) int {
	if of := families[name]; of != nil {
		return of[0]
	}
	return 0
}

// escape makes any text part of a descriptor.
func escape(text string) (string, error) {
	var b bytes.Buffer
	err := xml.EscapeText(&b, []byte(text))
	return b.String(), err
}

// layout is the descriptor (DSP0243, sections 7 to 9). InstanceIDs 1 and 2 are processors and memory, 3 the controller of
// the disks; disks count from 10, networks from 50.
var layout = template.Must(template.New("ovf").Funcs(template.FuncMap{"x": escape, "plus": func(a, b int) int { return a + b }}).Parse(`<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1" xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData" xmlns:vssd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData" xml:lang="en-US">
  <References>
{{- range .All}}
    <File ovf:id="file{{.Number}}" ovf:href="{{x .File}}" ovf:size="{{.Size}}"/>
{{- end}}
  </References>
  <DiskSection>
    <Info>The disks of the machine, with what they held when it was packed</Info>
{{- range .All}}
    <Disk ovf:diskId="disk{{.Number}}" ovf:fileRef="file{{.Number}}" ovf:capacity="{{.Bytes}}" ovf:capacityAllocationUnits="byte" ovf:format="` + FormatURI + `"/>
{{- end}}
  </DiskSection>
  <NetworkSection>
    <Info>The networks that the machine is in</Info>
{{- range .Networks}}
    <Network ovf:name="{{x .}}"><Description>{{x .}}</Description></Network>
{{- end}}
  </NetworkSection>
  <VirtualSystem ovf:id="{{x .Name}}">
    <Info>{{x .Description}}</Info>
    <Name>{{x .Hostname}}</Name>
    <OperatingSystemSection ovf:id="{{.System}}">
      <Info>The system that is installed</Info>
    </OperatingSystemSection>
    <ProductSection>
      <Info>What must be known of it: ports, folders of disks, and secrets that were left out and must be given again</Info>
      <Property ovf:key="ports" ovf:type="string" ovf:value="{{x .PortList}}"/>
{{- range .All}}{{if .Location}}
      <Property ovf:key="location.disk{{.Number}}" ovf:type="string" ovf:value="{{x .Location}}"/>
{{- end}}{{end}}
{{- range .Secrets}}
      <Property ovf:key="{{x .}}" ovf:type="string" ovf:password="true" ovf:userConfigurable="true"/>
{{- end}}
    </ProductSection>
    <VirtualHardwareSection>
      <Info>The machine</Info>
      <Item>
        <rasd:AllocationUnits>hertz * 10^6</rasd:AllocationUnits>
        <rasd:ElementName>{{.Cores}} processors</rasd:ElementName>
        <rasd:InstanceID>1</rasd:InstanceID>
        <rasd:ResourceType>3</rasd:ResourceType>
        <rasd:VirtualQuantity>{{.Cores}}</rasd:VirtualQuantity>
      </Item>
      <Item>
        <rasd:AllocationUnits>byte * 2^20</rasd:AllocationUnits>
        <rasd:ElementName>{{.MemoryMiB}} MiB of memory</rasd:ElementName>
        <rasd:InstanceID>2</rasd:InstanceID>
        <rasd:ResourceType>4</rasd:ResourceType>
        <rasd:VirtualQuantity>{{.MemoryMiB}}</rasd:VirtualQuantity>
      </Item>
      <Item>
        <rasd:Address>0</rasd:Address>
        <rasd:ElementName>disk controller</rasd:ElementName>
        <rasd:InstanceID>3</rasd:InstanceID>
        <rasd:ResourceType>6</rasd:ResourceType>
      </Item>
{{- range .All}}
      <Item>
        <rasd:AddressOnParent>{{plus .Number -1}}</rasd:AddressOnParent>
        <rasd:ElementName>{{x .Name}}</rasd:ElementName>
        <rasd:HostResource>ovf:/disk/disk{{.Number}}</rasd:HostResource>
        <rasd:InstanceID>{{plus .Number 9}}</rasd:InstanceID>
        <rasd:Parent>3</rasd:Parent>
        <rasd:ResourceType>17</rasd:ResourceType>
      </Item>
{{- end}}
{{- range $i, $n := .Networks}}
      <Item>
        <rasd:AutomaticAllocation>true</rasd:AutomaticAllocation>
        <rasd:Connection>{{x $n}}</rasd:Connection>
        <rasd:ElementName>network {{x $n}}</rasd:ElementName>
        <rasd:InstanceID>{{plus $i 50}}</rasd:InstanceID>
        <rasd:ResourceType>10</rasd:ResourceType>
      </Item>
{{- end}}
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
`))
