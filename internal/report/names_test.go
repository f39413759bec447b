package report_test

import (
	"strings"
	"testing"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

// TestNames has packages and folders left out of names as far as they stay different, and says which.
func TestNames(t *testing.T) {
	key := "gauge/line"
	ref := func(service, impl, at string) finding.Ref {
		return finding.Ref{Service: service, Implementation: finding.Text(impl), At: finding.Text(at), Lifetime: "scoped"}
	}
	keyed := ref("harbour.TideSource", "harbour.GaugeTides", "/srv/harbour/tides.go:12")
	keyed.Key = &key
	refs := map[string]finding.Ref{
		"TideSource [gauge/line]  GaugeTides  scoped": keyed,
		"quay.Ledger  ":                    ref("harbour.quay.Ledger", "", "/srv/quay/ledger.go:3"),
		"yard.Ledger  ":                    ref("harbour.yard.Ledger", "", "/srv/yard/ledger.go:4"),
		"Shelf[quay.Ledger]  ":             ref("harbour.Shelf[harbour.quay.Ledger]", "", ""),
		"PilotRoster  PaperRoster  scoped": ref(`Saltmarsh\Harbour\PilotRoster`, `Saltmarsh\Harbour\PaperRoster`, ""),
		"app.tides.default  ":              ref("app.tides.default", "", ""),
		"Clock  ·  scoped":                 ref("Clock", "Clock", ""),
		"..  ":                             ref("..", "", ""),
		"Tides::Reading  ":                 ref("Tides::Reading", "", ""),
		"*Mast  ":                          ref("*Mast", "", ""),
		`\u001b[31m  `:                     ref("\x1b[31m", "", ""),
		"example.Reading  ":                ref("com.example.Reading", "", ""),
		"func(Office) Desk  ":              ref("func(harbour.Office) harbour.Desk", "", ""),
	}
	var list views.RegistrationList
	for _, r := range refs {
		list.Registrations = append(list.Registrations, views.RegistrationRow{Ref: r})
	}
	write := func(s report.Style) string {
		var out strings.Builder
		report.Registrations(&out, list, s)
		return strings.Join(strings.Fields(out.String()), " ")
	}
	short, wide := write(report.Style{Width: 200}), write(report.Style{Width: 200, Wide: true})
	for want, r := range refs {
		if want = strings.Join(strings.Fields(want), " "); !strings.Contains(short, want) {
			t.Errorf("%q is not shown as %q in\n%s", r.Name(), want, short)
		}
		if !strings.Contains(wide, report.Clean(r.Name())) {
			t.Errorf("%q is not shown in full in\n%s", r.Name(), wide)
		}
	}
	for _, want := range []string{"…/tides.go:12", "ledger.go:3", "packages harbour", `Saltmarsh\Harbour`, "--wide shows names in full"} {
		if !strings.Contains(short, want) {
			t.Errorf("no %q in\n%s", want, short)
		}
	}
}

// TestNamesStayDifferent checks that cells of a narrow column which differ only in the middle are not shortened to the same text.
func TestNamesStayDifferent(t *testing.T) {
	var list views.RegistrationList
	for _, middle := range []string{"One", "Two", "Three"} {
		list.Registrations = append(list.Registrations, views.RegistrationRow{Ref: finding.Ref{Service: "TheHarbourOffice" + strings.Repeat("Of", 20) + middle + strings.Repeat("Tides", 12)}})
	}
	list.Registrations = append(list.Registrations, list.Registrations[0])
	var out strings.Builder
	report.Registrations(&out, list, report.Style{Width: 80})
	shown := map[string]bool{}
	for _, line := range strings.Split(out.String(), "\n")[1:] {
		if strings.HasPrefix(line, "The") {
			shown[strings.Fields(line)[0]] = true
		}
	}
	if len(shown) != 3 {
		t.Errorf("three names are shown as %d in\n%s", len(shown), out.String())
	}
}
