package wire

// PathMeasures is where a site tells what its machines use, in our own extension.
const PathMeasures = "/-/measures"

// Measures is what a site tells of its machines: by their ids, the values by the names of measures, in cores, bytes, bytes a second.
type Measures struct {
	Machines []MachineMeasures `json:"machines"`
}

// MachineMeasures is what one machine uses.
type MachineMeasures struct {
	ID     string             `json:"id"`
	Values map[string]float64 `json:"values"`
}
