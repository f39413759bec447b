package views

// The defaults and bounds of a view. The API, the commands and the console have them from here.
const (
	DefaultRows = 50
	MaxRows     = 5000

	DefaultCompared = 30 // of each part of a comparison

	DefaultBoardScopes = 10 // of a board: how many scopes stand side by side
	MaxBoardScopes     = 200
	DefaultBoardDepth  = 2 // of a board: how many steps from the entry point are unfolded
	MaxBoardDepth      = 8
)
