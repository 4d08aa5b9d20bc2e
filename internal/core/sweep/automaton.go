package sweep

import "sort"

// automaton finds all keywords in one pass over the bytes (Aho and Corasick,
// 1975), upper and lower case alike. Its table is dense, one row of classes per
// state, and the states in which a keyword ends come last, so that the inner
// loop makes one look-up and one comparison a byte.
type automaton struct {
	classes [256]uint8
	shift   uint
	table   []uint32  // state<<shift | class to state<<shift
	first   uint32    // the first state in which a keyword ends, shifted
	ends    [][]int32 // keywords that end in a state, by state minus the first such
	lengths []int     // by keyword
}

// newAutomaton builds the automaton of keywords, which are not empty.
func newAutomaton(keywords []string) *automaton {
	a := &automaton{lengths: make([]int, len(keywords))}
	count := 1
	for k, word := range keywords {
		a.lengths[k] = len(word)
		for i := range len(word) {
			if c := fold(word[i]); a.classes[c] == 0 {
				a.classes[c] = uint8(count)
				count++
			}
		}
	}
	for c := byte('A'); c <= 'Z'; c++ {
		a.classes[c] = a.classes[fold(c)]
	}
	for 1<<a.shift < count {
		a.shift++
	}
	a.build(keywords)
	return a
}

type node struct {
	next []int32 // by class; 0 is none, or the root once failures are filled in
	fail int32
	ends []int32
}

func (a *automaton) build(keywords []string) {
	fresh := func() node { return node{next: make([]int32, 1<<a.shift)} }
	nodes := []node{fresh()}
	for k, word := range keywords {
		at := int32(0)
		for i := range len(word) {
			c := a.classes[fold(word[i])]
			if nodes[at].next[c] == 0 {
				nodes = append(nodes, fresh())
				nodes[at].next[c] = int32(len(nodes) - 1)
			}
			at = nodes[at].next[c]
		}
		nodes[at].ends = append(nodes[at].ends, int32(k))
	}
	// Breadth first: a state's failure is complete before it is needed.
	queue := []int32{}
	for c := range nodes[0].next {
		if n := nodes[0].next[c]; n != 0 {
			queue = append(queue, n)
		}
	}
	for i := 0; i < len(queue); i++ {
		at := queue[i]
		fail := nodes[at].fail
		nodes[at].ends = append(nodes[at].ends, nodes[fail].ends...)
		for c := range nodes[at].next {
			if n := nodes[at].next[c]; n != 0 {
				nodes[n].fail = nodes[fail].next[c]
				queue = append(queue, n)
			} else {
				nodes[at].next[c] = nodes[fail].next[c]
			}
		}
	}
	a.number(nodes)
}

// number orders the states so that those in which a keyword ends come last.
func (a *automaton) number(nodes []node) {
	order := make([]int, len(nodes))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(i, j int) bool { return len(nodes[order[i]].ends) == 0 && len(nodes[order[j]].ends) > 0 })
	position := make([]uint32, len(nodes))
	a.first = uint32(len(nodes)) << a.shift
	for p, n := range order {
		position[n] = uint32(p)
		if len(nodes[n].ends) > 0 {
			a.first = min(a.first, uint32(p)<<a.shift)
			a.ends = append(a.ends, nodes[n].ends)
		}
	}
	a.table = make([]uint32, len(nodes)<<a.shift)
	for p, n := range order {
		for c := range 1 << a.shift {
			a.table[p<<a.shift|c] = position[nodes[n].next[c]] << a.shift
		}
	}
}

// find calls hit for every keyword in data with the offset where it starts.
func (a *automaton) find(data []byte, hit func(keyword int32, start int)) {
	table, classes, first := a.table, &a.classes, a.first
	state := uint32(0)
	for i := 0; i < len(data); i++ {
		state = table[state|uint32(classes[data[i]])]
		if state >= first {
			for _, k := range a.ends[(state-first)>>a.shift] {
				hit(k, i+1-a.lengths[k])
			}
		}
	}
}
