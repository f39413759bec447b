package ledger

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestNamings(t *testing.T) {
	n := names{namings: map[naming]Naming{}}
	var per PerNaming[string]
	first := map[string]Naming{}
	for round := range 2 {
		for k := range maxNamings + 100 {
			name := fmt.Sprintf("GET /tides/%d", k/2) // two kinds of each, and its text in another place each time
			kind := strings.Clone([]string{"request", "job"}[k%2])
			number := n.number(name, kind)
			if k >= maxNamings {
				require.Zero(t, number)
				require.Nil(t, per.At(number))
				continue
			}
			text := kind + " " + name
			if round == 0 {
				require.Equal(t, Naming(k+1), number)
				require.Nil(t, per.At(number))
				first[text] = number
				per.Set(number, &text)
			}
			require.Equal(t, first[text], number)
			require.Equal(t, text, *per.At(number))
		}
	}
	other := "no container's"
	per.Set(0, &other)
	require.Nil(t, per.At(0))
	require.Len(t, per, maxNamings+1)
}
