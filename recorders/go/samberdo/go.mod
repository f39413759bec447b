module keenlantern.example/record/samberdo

go 1.24.0

require (
	github.com/samber/do/v2 v2.0.0
	keenlantern.example/record v0.1.0
)

require github.com/samber/go-type-to-string v1.8.0 // indirect

replace keenlantern.example/record => ../
