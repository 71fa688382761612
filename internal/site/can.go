package site

import "context"

// Narrower is a driver of sites that differ: some have only part of what it knows to ask for.
type Narrower interface {
	// Narrow is the same site with what it has, and nothing else. Where that cannot be asked it is the site as it is.
	Narrow(ctx context.Context) Site
}

// Can is a site as one that can do something beside what every [Site] does, and whether it can. That its driver knows how is not enough: a site
// that has no word for it would refuse in the middle of a run what a plan had promised.
func Can[T any](ctx context.Context, at Site) (T, bool) {
	if can, knows := at.(T); !knows {
		return can, false // it need not be asked
	}
	can, ok := Narrowed(ctx, at).(T)
	return can, ok
}

// Narrowed is a site with what it has, and nothing else that its driver knows to ask for.
func Narrowed(ctx context.Context, at Site) Site {
	if n, differs := at.(Narrower); differs {
		return n.Narrow(ctx)
	}
	return at
}
