package chest

// What tests from outside look at.
var (
	EmptyTree = emptyTree
	TreeOf    = treeOf
)
