package views

// Order is what the recorders of an application shall do.
type Order struct {
	Version int64   `json:"version"` // 0: there is no order, and recorders use their configuration
	On      bool    `json:"on"`
	Share   float64 `json:"share"`  // of the scopes; 0 is all
	ForNS   int64   `json:"for_ns"` // how long from now; 0: without end
	Bytes   int64   `json:"bytes"`  // after how many bytes each stops; 0: never
}

// Recorder is one that has asked recently.
type Recorder struct {
	ID          string  `json:"id"`
	Version     string  `json:"version"`
	Environment string  `json:"environment"`
	Stream      string  `json:"stream"` // "" while it is off
	On          bool    `json:"on"`
	Share       float64 `json:"share"`
	Events      int64   `json:"events"`
	Lost        int64   `json:"lost"`
	Asked       string  `json:"asked"` // RFC 3339
	Knows       int64   `json:"knows"` // the version of the order it follows
}

// Application is what is known of one application.
type Application struct {
	Name      string     `json:"name"`
	Order     Order      `json:"order"`
	Recorders []Recorder `json:"recorders"`
}
