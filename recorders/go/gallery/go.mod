module keenlantern.example/record/gallery

go 1.24.0

require (
	github.com/samber/do/v2 v2.0.0
	go.uber.org/dig v1.19.0
	go.uber.org/fx v1.24.0
	keenlantern.example/record v0.1.0
	keenlantern.example/record/samberdo v0.1.0
	keenlantern.example/record/uberdig v0.1.0
	keenlantern.example/record/uberfx v0.1.0
)

require (
	github.com/samber/go-type-to-string v1.8.0 // indirect
	go.uber.org/multierr v1.10.0 // indirect
	go.uber.org/zap v1.26.0 // indirect
	golang.org/x/sys v0.0.0-20220412211240-33da011f77ad // indirect
)

replace (
	keenlantern.example/record => ../
	keenlantern.example/record/samberdo => ../samberdo
	keenlantern.example/record/uberdig => ../uberdig
	keenlantern.example/record/uberfx => ../uberfx
)
