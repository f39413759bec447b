package load

import (
	"fmt"
	"strings"
)

// Leaky returns a stream of n requests of which every seventh leaks, in batches of a few lines.
func Leaky(stream string, n int) (batches []string) {
	b := &strings.Builder{}
	fmt.Fprintf(b, `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":%q,"start":"2026-03-02T05:40:00.000000000Z"}`+"\n", stream)
	fmt.Fprintln(b, `{"ev":"register","t":1,"reg":1,"service":"BerthLedger","lifetime":"scoped","disposable":true}`)
	for k := 1; k <= n; k++ {
		fmt.Fprintf(b, `{"ev":"open","t":%d,"scope":%d,"kind":"request","name":"GET /berths"}`+"\n", 10*k, k)
		fmt.Fprintf(b, `{"ev":"make","t":%d,"inst":%d,"reg":1,"scope":%d}`+"\n", 10*k+1, k, k)
		if k%7 != 0 {
			fmt.Fprintf(b, `{"ev":"dispose","t":%d,"inst":%d,"scope":%d}`+"\n", 10*k+2, k, k)
		}
		fmt.Fprintf(b, `{"ev":"close","t":%d,"scope":%d}`+"\n", 10*k+3, k)
		if k%5 == 0 || k == n {
			if k == n {
				fmt.Fprintf(b, `{"ev":"bye","t":%d}`+"\n", 10*k+10)
			}
			batches = append(batches, b.String())
			b.Reset()
		}
	}
	return batches
}
