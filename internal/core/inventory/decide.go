package inventory

// apart is an observation and an entity that a person said are two.
type apart struct{ o, e int32 }

// decided obeys what persons said of identity before anything else is matched.
func (c *reconciler) decided() {
	for i := range c.ofObserved {
		c.ofObserved[i] = -1
	}
	if len(c.in.Decisions) == 0 {
		return
	}
	records := map[string]int32{}
	for i := range c.entities {
		if e := &c.entities[i]; e.r >= 0 {
			records[c.in.Recorded.Record(int(e.r)).ID] = int32(i)
		} else {
			records[c.in.Declared.Record(int(e.d)).ID] = int32(i)
		}
	}
	observed := map[uint64]int32{}
	for i := range c.ofObserved {
		if k := c.in.Observed.Keys(i)[byProvider]; k != 0 {
			observed[k] = int32(i)
		}
	}
	for _, d := range c.in.Decisions {
		o, okO := observed[Records{{Site: d.Site, Provider: d.Provider}}.Keys(0)[byProvider]]
		e, okE := records[d.Record]
		switch {
		case !okO || !okE:
		case !d.Same:
			c.apart[apart{o, e}] = true
		case c.entities[e].o < 0 && c.ofObserved[o] < 0:
			c.join(o, e, byDecision)
		}
	}
}

// may reports that nobody said that the two are not one.
func (c *reconciler) may(o, e int32) bool { return !c.apart[apart{o, e}] }
