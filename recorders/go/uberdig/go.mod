module keenlantern.example/record/uberdig

go 1.24.0

require (
	go.uber.org/dig v1.19.0
	keenlantern.example/record v0.1.0
)

replace keenlantern.example/record => ../
