package estate

// Zone is a part of a site that fails on its own. Hosts are given where the site exposes them; elsewhere Free and Total
// are the zone's as a whole. Total may be unknown.
type Zone struct {
	Name  string   `json:"name"`
	Hosts []Host   `json:"hosts,omitempty"`
	Free  Capacity `json:"free,omitzero"`
	Total Capacity `json:"total,omitzero"`
}

// Host is a machine that carries instances, with what is free on it.
type Host struct {
	Name  string   `json:"name"`
	Free  Capacity `json:"free"`
	Total Capacity `json:"total,omitzero"`
}

// Room is what has one capacity of its own: a host, or a zone that exposes none.
type Room struct {
	Zone, Host  string
	Free, Total Capacity
}

// Used is what is taken of the room, nothing where the total is unknown.
func (r Room) Used() Capacity {
	if r.Total.IsZero() {
		return Capacity{}
	}
	return r.Total.Minus(r.Free)
}

// Name is how the room is called among its site's.
func (r Room) Name() string {
	if r.Host == "" {
		return "zone " + r.Zone
	}
	return "zone " + r.Zone + ", " + r.Host
}

// Rooms lists the site's rooms in its order.
func (s *Site) Rooms() []Room {
	var out []Room
	for _, z := range s.Zones {
		if len(z.Hosts) == 0 {
			out = append(out, Room{z.Name, "", z.Free, z.Total})
		}
		for _, h := range z.Hosts {
			out = append(out, Room{z.Name, h.Name, h.Free, h.Total})
		}
	}
	return out
}

// Free is what all rooms of the site have left together.
func (s *Site) Free() Capacity {
	var sum Capacity
	for _, r := range s.Rooms() {
		sum = sum.Plus(r.Free)
	}
	return sum
}

// Quota is a limit of the account at a site, and what of it is used.
type Quota struct {
	Limit float64 `json:"limit"`
	Used  float64 `json:"used,omitempty"`
}

// Names of quotas that count instances and addresses; the others are those of a capacity.
const (
	QuotaInstances = "instances"
	QuotaAddresses = "addresses"
	QuotaCores     = "cores"
	QuotaMemory    = "memory_gib"
	QuotaDisk      = "disk_gib"
)

// Image is a system that instances start from, and what it is able to do.
type Image struct {
	Name string `json:"name"`
	OS   string `json:"os"`
	Release
	Capabilities []string `json:"capabilities,omitempty"`
}

// Offers reports whether the image has every capability.
func (i Image) Offers(capabilities []string) bool {
	for _, c := range capabilities {
		if !contains(i.Capabilities, c) {
			return false
		}
	}
	return true
}

// ImageNamed reports whether the site offers an image of that name.
func (s *Site) ImageNamed(name string) bool {
	for _, i := range s.Images {
		if i.Name == name {
			return true
		}
	}
	return false
}

// Has reports whether the site has a feature.
func (s *Site) Has(feature string) bool { return contains(s.Features, feature) }

// Image returns the first image with the system (any if os is empty), of the release, and with the capabilities; nil if there is none.
func (s *Site) Image(os string, r Release, capabilities ...string) *Image {
	for i := range s.Images {
		if (os == "" || s.Images[i].OS == os) && s.Images[i].May(r) && s.Images[i].Offers(capabilities) {
			return &s.Images[i]
		}
	}
	return nil
}

func contains(list []string, x string) bool {
	for _, y := range list {
		if x == y {
			return true
		}
	}
	return false
}

// free is what is free of a room, for changing it; nil if there is no such room.
func (s *Site) free(zone, host string) *Capacity {
	for i := range s.Zones {
		z := &s.Zones[i]
		if z.Name != zone {
			continue
		}
		if len(z.Hosts) == 0 {
			return &z.Free
		}
		for k := range z.Hosts {
			if z.Hosts[k].Name == host {
				return &z.Hosts[k].Free
			}
		}
	}
	return nil
}

// GiveBack counts as free what something in a room takes.
func (s *Site) GiveBack(zone, host string, c Capacity) {
	if f := s.free(zone, host); f != nil {
		*f = f.Plus(c)
	}
}

// Take counts as taken what something is to take of a room; false, and nothing is taken, if there is no room for it.
func (s *Site) Take(zone, host string, c Capacity) bool {
	f := s.free(zone, host)
	if f == nil || !f.Fits(c) {
		return false
	}
	*f = f.Minus(c)
	return true
}
