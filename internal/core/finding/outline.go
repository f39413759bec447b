package finding

// Outline is which finding one is and how grave, without what was seen of it.
type Outline struct {
	ID       string   `json:"id"`
	Rule     string   `json:"rule"`
	Severity Severity `json:"severity"`
	Subject  Ref      `json:"subject"`
	Path     []Ref    `json:"path,omitempty"`
}

// Outline returns f's.
func (f *Finding) Outline() Outline {
	return Outline{ID: f.ID, Rule: f.Rule, Severity: f.Severity, Subject: f.Subject, Path: f.Path}
}
