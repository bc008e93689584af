package picture

import (
	"cmp"
	"slices"
)

// A layering is the boxes of a ladder in layers, the lowest first, ordered so that few lines
// between neighbouring layers cross: by the barycentre method of Sugiyama, Tagawa and Toda
// ("Methods for visual understanding of hierarchical system structures", 1981). A line over
// several layers has a place in each of those between.
type layering struct {
	layers [][]int // nodes in order
	below  [][]int // of each node, those in the next lower layer
	above  [][]int
	wide   []float64 // of each node
	x      []float64 // of each node's middle
}

// place adds a node to a layer.
func (l *layering) place(layer int, wide float64) int {
	for len(l.layers) <= layer {
		l.layers = append(l.layers, nil)
	}
	n := len(l.wide)
	l.layers[layer] = append(l.layers[layer], n)
	l.below, l.above, l.wide = append(l.below, nil), append(l.above, nil), append(l.wide, wide)
	return n
}

// link connects a node with one in the next lower layer.
func (l *layering) link(upper, lower int) {
	l.below[upper] = append(l.below[upper], lower)
	l.above[lower] = append(l.above[lower], upper)
}

// order orders the layers.
func (l *layering) order() {
	best, fewest := l.copied(), l.crossings()
	const sweeps = 12
	for sweep := 0; sweep < sweeps && fewest > 0; sweep++ {
		for i := range l.layers {
			if sweep%2 == 0 {
				l.sort(i, l.below)
			} else {
				l.sort(len(l.layers)-1-i, l.above)
			}
		}
		if n := l.crossings(); n < fewest {
			best, fewest = l.copied(), n
		}
	}
	l.layers = best
}

func (l *layering) copied() [][]int {
	var layers [][]int
	for _, layer := range l.layers {
		layers = append(layers, slices.Clone(layer))
	}
	return layers
}

// sort orders a layer by the mean place of each node's neighbours; one without any stays.
func (l *layering) sort(i int, neighbours [][]int) {
	at := l.places()
	centre := map[int]float64{}
	for k, n := range l.layers[i] {
		centre[n] = float64(k)
		if len(neighbours[n]) > 0 {
			centre[n] = 0
			for _, other := range neighbours[n] {
				centre[n] += float64(at[other]) / float64(len(neighbours[n]))
			}
		}
	}
	slices.SortStableFunc(l.layers[i], func(a, b int) int { return cmp.Compare(centre[a], centre[b]) })
}

// places are the positions of nodes in their layers.
func (l *layering) places() []int {
	at := make([]int, len(l.wide))
	for _, layer := range l.layers {
		for k, n := range layer {
			at[n] = k
		}
	}
	return at
}

// crossings counts the pairs of lines that cross.
func (l *layering) crossings() (n int) {
	at := l.places()
	for _, layer := range l.layers {
		var ends [][2]int
		for k, upper := range layer {
			for _, lower := range l.below[upper] {
				ends = append(ends, [2]int{k, at[lower]})
			}
		}
		for i, a := range ends {
			for _, b := range ends[i+1:] {
				if (a[0]-b[0])*(a[1]-b[1]) < 0 {
					n++
				}
			}
		}
	}
	return n
}

// spread gives nodes their x, near those of their neighbours and at least a gap apart, and
// returns the width of all.
func (l *layering) spread(gap float64) float64 {
	l.x = make([]float64, len(l.wide))
	for _, layer := range l.layers {
		x := 0.0
		for _, n := range layer {
			l.x[n] = x + l.wide[n]/2
			x += l.wide[n] + gap
		}
	}
	const passes = 30
	for pass := range passes {
		for i := range l.layers {
			if pass%2 == 1 {
				i = len(l.layers) - 1 - i
			}
			l.relax(l.layers[i], gap)
		}
	}
	least, most := 0.0, 0.0
	for i, n := range slices.Concat(l.layers...) {
		left, right := l.x[n]-l.wide[n]/2, l.x[n]+l.wide[n]/2
		if i == 0 {
			least, most = left, right
		}
		least, most = min(least, left), max(most, right)
	}
	for n := range l.x {
		l.x[n] -= least
	}
	return most - least
}

// relax moves the nodes of a layer towards the middle of their neighbours. The order stays.
func (l *layering) relax(layer []int, gap float64) {
	wanted := make([]float64, len(layer))
	for k, n := range layer {
		wanted[k] = l.x[n]
		around := slices.Concat(l.below[n], l.above[n])
		if len(around) > 0 {
			wanted[k] = 0
			for _, other := range around {
				wanted[k] += l.x[other] / float64(len(around))
			}
		}
	}
	right, left := slices.Clone(wanted), slices.Clone(wanted)
	for k := 1; k < len(layer); k++ {
		right[k] = max(right[k], right[k-1]+(l.wide[layer[k-1]]+l.wide[layer[k]])/2+gap)
	}
	for k := len(layer) - 2; k >= 0; k-- {
		left[k] = min(left[k], left[k+1]-(l.wide[layer[k+1]]+l.wide[layer[k]])/2-gap)
	}
	for k, n := range layer {
		l.x[n] = (right[k] + left[k]) / 2
	}
}
