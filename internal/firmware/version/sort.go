package version

import "slices"

// SortBy sorts a list by a text of each element, in the natural order. Elements whose texts are
// equal are compared by then. Each text is read once: a comparison would read two of them again.
func SortBy[T any](list []T, text func(*T) string, then func(a, b *T) int) {
	type keyed struct {
		key []token
		at  int
	}
	keys := make([]keyed, len(list))
	for i := range list {
		keys[i] = keyed{Order{}.key(text(&list[i])), i}
	}
	slices.SortStableFunc(keys, func(a, b keyed) int {
		if c := compare(a.key, b.key); c != 0 || then == nil {
			return c
		}
		return then(&list[a.at], &list[b.at])
	})
	sorted := make([]T, len(list))
	for i, k := range keys {
		sorted[i] = list[k.at]
	}
	copy(list, sorted)
}
