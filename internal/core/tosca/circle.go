package tosca

import (
	"slices"
	"strings"
)

// circleFrom follows next from a name and returns the path that leads back to where it was before, nil if none does.
func circleFrom(start string, next func(string) []string) []string {
	const visiting, done = 1, 2
	mark := map[string]int{}
	var path []string
	var visit func(name string) []string
	visit = func(name string) []string {
		switch mark[name] {
		case done:
			return nil
		case visiting:
			return append(slices.Clone(path[slices.Index(path, name):]), name)
		}
		mark[name] = visiting
		path = append(path, name)
		for _, n := range next(name) {
			if c := visit(n); c != nil {
				return c
			}
		}
		mark[name], path = done, path[:len(path)-1]
		return nil
	}
	return visit(start)
}

func arrows(path []string) string { return strings.Join(path, " → ") }
