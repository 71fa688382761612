// Package measure is how much things use and how they answer, over time. In go samples on a grid of 15 seconds; out come rows of compressed columns for a store,
// coarser rows made of finer ones, and curves for a span of time, whatever rows they are read from.
//
// Values are kept as whole multiples of the step of their measure, and as differences to the one before: a core in use is told to a hundredth, an answer to a tenth
// of a millisecond. What is finer than that is noise, which would take most of the room. Times take none, since samples lie on the grid.
package measure

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"
)

// Unit is what a measure is counted in, as OpenMetrics names units (OpenMetrics 1.0, "Unit").
type Unit string

// The units. A state is 1 or 0, and a share of 1 is all of it.
const (
	Cores          Unit = "cores"
	Bytes          Unit = "bytes"
	BytesPerSecond Unit = "bytes_per_second"
	Seconds        Unit = "seconds"
	State          Unit = "state"
	Share          Unit = "ratio"
	Number         Unit = ""
)

// Kind is what sort of thing is measured.
type Kind string

// The kinds of what is measured.
const (
	OfInstance Kind = "instance"
	OfEndpoint Kind = "endpoint"
	OfSite     Kind = "site"
	OfRun      Kind = "andamio"
	// OfWhole is what belongs together: all of a site, of a deployment, or of a tier of one.
	OfWhole Kind = "whole"
)

// Measure is one sort of figure of one kind of thing.
type Measure struct {
	Name string
	Of   Kind
	Unit Unit
	// Step is the smallest difference that is kept, in Unit.
	Step float64
	// Limit names the measure that says how much there is of it; "" where there is no limit.
	Limit string
	// Words say what it is on screen.
	Words string
}

// The names of measures.
const (
	CoresUsed    = "cores"
	CoresHeld    = "cores_held"
	MemoryUsed   = "memory"
	MemoryHeld   = "memory_held"
	DiskUsed     = "disk"
	DiskHeld     = "disk_held"
	DiskRead     = "disk_read"
	DiskWritten  = "disk_written"
	NetReceived  = "net_received"
	NetSent      = "net_sent"
	On           = "on"
	Answers      = "answers"
	AnswerTime   = "answer_time"
	Certificate  = "certificate_left"
	SiteAnswers  = "site_answers"
	SiteTime     = "site_time"
	Load         = "load"
	Fullest      = "fullest"
	ServicesDown = "services_failed"
	RunsUnderWay = "runs"
	RunsFailed   = "runs_failed"
	DueLate      = "due_late"
	ForwardLate  = "forward_late"
	ForwardLost  = "forward_lost"
)

// The names of measures of what belongs together.
const (
	WholeOn         = "whole_on"
	WholeCores      = "whole_cores"
	WholeCoresHeld  = "whole_cores_held"
	WholeMemory     = "whole_memory"
	WholeMemoryHeld = "whole_memory_held"
	WholeDisk       = "whole_disk"
	WholeDiskHeld   = "whole_disk_held"
	WholeReceived   = "whole_received"
	WholeSent       = "whole_sent"
	WholeAnswers    = "whole_answers"
	WholeSlowest    = "whole_slowest"
)

// Wholes says by which measure of what belongs together one of its parts is told.
var Wholes = map[string]string{
	On: WholeOn, CoresUsed: WholeCores, CoresHeld: WholeCoresHeld, MemoryUsed: WholeMemory, MemoryHeld: WholeMemoryHeld, DiskUsed: WholeDisk, DiskHeld: WholeDiskHeld,
	NetReceived: WholeReceived, NetSent: WholeSent, Answers: WholeAnswers, AnswerTime: WholeSlowest,
}

// Catalogue are all measures that Andamio knows by itself, in the order in which they are shown.
var Catalogue = []Measure{
	{On, OfInstance, State, 1, "", "switched on"},
	{CoresUsed, OfInstance, Cores, 0.01, CoresHeld, "cores in use"},
	{CoresHeld, OfInstance, Cores, 0.01, "", "cores that it has"},
	{MemoryUsed, OfInstance, Bytes, 4 << 20, MemoryHeld, "memory in use"},
	{MemoryHeld, OfInstance, Bytes, 4 << 20, "", "memory that it has"},
	{DiskUsed, OfInstance, Bytes, 4 << 20, DiskHeld, "disk in use"},
	{DiskHeld, OfInstance, Bytes, 4 << 20, "", "disk that it has"},
	{DiskRead, OfInstance, BytesPerSecond, 4 << 10, "", "read from disk"},
	{DiskWritten, OfInstance, BytesPerSecond, 4 << 10, "", "written to disk"},
	{NetReceived, OfInstance, BytesPerSecond, 1 << 10, "", "received"},
	{NetSent, OfInstance, BytesPerSecond, 1 << 10, "", "sent"},
	{Load, OfInstance, Number, 0.01, "", "processes that run or wait to (load)"},
	{Fullest, OfInstance, Share, 1e-3, "", "in use of the fullest file system"},
	{ServicesDown, OfInstance, Number, 1, "", "services that failed"},
	{Answers, OfEndpoint, State, 1, "", "answers"},
	{AnswerTime, OfEndpoint, Seconds, 1e-4, "", "time to answer"},
	{Certificate, OfEndpoint, Seconds, 60, "", "left of its certificate"},
	{WholeOn, OfWhole, Number, 1, "", "machines that are on"},
	{WholeCores, OfWhole, Cores, 0.01, WholeCoresHeld, "cores in use"},
	{WholeCoresHeld, OfWhole, Cores, 0.01, "", "cores that they have"},
	{WholeMemory, OfWhole, Bytes, 4 << 20, WholeMemoryHeld, "memory in use"},
	{WholeMemoryHeld, OfWhole, Bytes, 4 << 20, "", "memory that they have"},
	{WholeDisk, OfWhole, Bytes, 4 << 20, WholeDiskHeld, "disk in use"},
	{WholeDiskHeld, OfWhole, Bytes, 4 << 20, "", "disk that they have"},
	{WholeReceived, OfWhole, BytesPerSecond, 1 << 10, "", "received"},
	{WholeSent, OfWhole, BytesPerSecond, 1 << 10, "", "sent"},
	{WholeAnswers, OfWhole, Share, 1e-3, "", "answering"},
	{WholeSlowest, OfWhole, Seconds, 1e-4, "", "slowest answer"},
	{SiteAnswers, OfSite, State, 1, "", "answers"},
	{SiteTime, OfSite, Seconds, 1e-3, "", "time to answer"},
	{RunsUnderWay, OfRun, Number, 1, "", "runs under way"},
	{RunsFailed, OfRun, Number, 1, "", "runs that failed and wait for somebody"},
	{DueLate, OfRun, Seconds, 1, "", "what is due is late by"},
	{ForwardLate, OfRun, Seconds, 1, "", "measures that are sent on are late by"},
	{ForwardLost, OfRun, Number, 1, "", "measures that nobody took"},
}

// Of is the measure of a name. One that is not in the catalogue is a metric that an endpoint tells of itself: its name says its unit (OpenMetrics 1.0, "Units and
// Base Units"), and it is a number of four digits behind the point where it does not.
func Of(name string) Measure {
	if i := slices.IndexFunc(Catalogue, func(m Measure) bool { return m.Name == name }); i >= 0 {
		return Catalogue[i]
	}
	base, _, _ := strings.Cut(name, "{")
	m := Measure{Name: name, Of: OfEndpoint, Step: 1e-4, Words: name}
	for _, u := range []struct {
		unit Unit
		step float64
	}{{BytesPerSecond, 1}, {Bytes, 1}, {Seconds, 1e-4}, {Share, 1e-4}} {
		if strings.HasSuffix(base, "_"+string(u.unit)) {
			m.Unit, m.Step = u.unit, u.step
			break
		}
	}
	return m
}

// Answering reports that anything less than 1 of it is something that does not answer, or is not on.
func (m *Measure) Answering() bool { return m.Unit == State || m.Name == WholeAnswers }

// Ordered are the measures that rows of a kind of thing have, those of the catalogue in its order and then others by name.
func Ordered(kind Kind, rows []Row) ([]Measure, error) {
	had := map[string]bool{}
	for i := range rows {
		columns, err := Unpack(rows[i].Body)
		if err != nil {
			return nil, err
		}
		for _, c := range columns {
			had[c.Name] = true
		}
	}
	var out []Measure
	for _, m := range Catalogue {
		if m.Of == kind && had[m.Name] {
			out = append(out, m)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(had)) {
		if !Known(name) {
			out = append(out, Of(name))
		}
	}
	return out, nil
}

// Known reports that a name is in the catalogue.
func Known(name string) bool {
	return slices.ContainsFunc(Catalogue, func(m Measure) bool { return m.Name == name })
}

// quanta are how many steps a value is.
func (m *Measure) quanta(v float64) int64 {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return missing
	}
	q := math.Round(v / m.Step)
	if math.Abs(q) > 1<<53 { // beyond what a float tells apart it is no measurement
		return missing
	}
	return int64(q)
}

// Thing is what is measured, with what is known of it. Its key names it for ever; everything else may change.
type Thing struct {
	// ID is the store's, 0 before it is kept.
	ID   int64  `json:"-"`
	Key  string `json:"key"`
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
	Site string `json:"site,omitempty"`
	// Deployment is the number of the one it belongs to, Of its name.
	Deployment int64  `json:"deployment,omitempty"`
	Of         string `json:"of,omitempty"`
	// Resource is its id in the deployment's plan.
	Resource string `json:"resource,omitempty"`
	Tier     string `json:"tier,omitempty"`
	Service  string `json:"service,omitempty"`
	Team     string `json:"team,omitempty"`
	// Node is where it is: a host, or a zone where hosts are not told.
	Host string            `json:"host,omitempty"`
	Zone string            `json:"zone,omitempty"`
	Tags map[string]string `json:"tags,omitempty"`
	// Address is the host name or IP address through which an endpoint is asked.
	Address string `json:"address,omitempty"`
}

// Keys of things.
func InstanceKey(site, provider string) string { return "instance " + site + "/" + provider }

// EndpointKey is the key of an endpoint of a deployment.
func EndpointKey(deployment int64, resource string) string {
	return fmt.Sprintf("endpoint d%d/%s", deployment, resource)
}

// SiteKey is the key of a site.
func SiteKey(site string) string { return "site " + site }

// WholeKey is the key of what belongs together: of a site by its key, of a deployment by its number, "d1", and of a tier of it, "d1/map".
func WholeKey(of string) string { return "whole " + of }

// SelfKey is the key of Andamio itself.
const SelfKey = "andamio"

// Sample is one figure of one thing.
type Sample struct {
	Thing string
	Name  string
	Value float64
}

// Level is how fine samples are kept.
type Level int

// The levels: as they were measured, by five minutes, and by the hour.
const (
	Raw Level = iota
	Fine
	Coarse
	levels
)

// spans are the time between samples of each level, and how many a row has.
var spans = [levels]struct {
	step  time.Duration
	slots int64
}{{15 * time.Second, 120}, {5 * time.Minute, 48}, {time.Hour, 48}}

// Step is the time between two samples.
func (l Level) Step() time.Duration { return spans[l].step }

// Slots is how many samples a row has.
func (l Level) Slots() int64 { return spans[l].slots }

// Row is the time that a row covers.
func (l Level) Row() time.Duration { return spans[l].step * time.Duration(spans[l].slots) }

// Slot is the number of the sample that a moment belongs to, since 1970.
func (l Level) Slot(at time.Time) int64 { return floorDiv(at.UnixNano(), int64(spans[l].step)) }

// At is the moment at which a sample begins.
func (l Level) At(slot int64) time.Time { return time.Unix(0, slot*int64(spans[l].step)).UTC() }

// First is the first slot of the row that a slot is in.
func (l Level) First(slot int64) int64 { return floorDiv(slot, spans[l].slots) * spans[l].slots }

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// Point is what is known of a span of time. N is 0 where nothing is known.
type Point struct {
	At             time.Time
	Min, Mean, Max float64
	// N is how many samples it is made of.
	N int
}

// Compare orders things by kind and name; all of a deployment stands before its tiers.
func (t *Thing) Compare(o *Thing) int {
	return cmp.Or(cmp.Compare(t.Kind, o.Kind), cmp.Compare(t.Site, o.Site), cmp.Compare(t.within(), o.within()), cmp.Compare(t.Name, o.Name), cmp.Compare(t.Key, o.Key))
}

// within is of which deployment, and which tier of it, a whole is; "" for all else.
func (t *Thing) within() string {
	if t.Kind != OfWhole || t.Deployment == 0 {
		return ""
	}
	return fmt.Sprintf("%s\x00%d\x00%s", t.Of, t.Deployment, t.Tier)
}
