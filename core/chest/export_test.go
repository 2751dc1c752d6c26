package chest

// What tests from outside look at.
var (
	EmptyTree = emptyTree
	TreeOf    = treeOf
)

// Lifetime is that of a lease.
const Lifetime = lifetime
