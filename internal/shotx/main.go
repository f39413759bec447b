package main

import (
	"fmt"
	"os"
	"strings"
	"time"

	"keenlantern.example/internal/browser"
)

// args: base, then path=out[,dark][,w][|js]...
func main() {
	b, err := browser.Open()
	if err != nil {
		panic(err)
	}
	defer b.Close()
	for _, a := range os.Args[2:] {
		spec, js, _ := strings.Cut(a, "|")
		path, out, _ := strings.Cut(spec, "=>")
		v := browser.View{Width: 1280, Height: 800, Dark: strings.Contains(out, "dark")}
		p, err := b.Page(os.Args[1], v)
		if err != nil {
			panic(err)
		}
		if err := p.Go(path); err != nil {
			fmt.Println(err)
		}
		time.Sleep(1500 * time.Millisecond)
		if js != "" {
			if err := p.Run(js); err != nil {
				fmt.Println(err)
			}
			time.Sleep(1200 * time.Millisecond)
		}
		png, err := p.Picture()
		if err != nil {
			panic(err)
		}
		_ = os.WriteFile("/tmp/w/shot/"+out+".png", png, 0o644)
		fmt.Println(out, p.Faults())
		p.Close()
	}
}
