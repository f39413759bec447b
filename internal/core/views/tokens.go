package views

// Token is what is known of a token besides its secret.
type Token struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Kind    string `json:"kind"`    // "record", "read" or "manage"
	Created string `json:"created"` // RFC 3339
}

// NewToken is a token that has just been made: the only time that its secret is shown.
type NewToken struct {
	Token
	Secret string `json:"secret"`
}
