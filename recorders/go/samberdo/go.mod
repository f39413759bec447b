module keenlantern.example/record/samberdo

go 1.26.0

require (
	github.com/samber/do/v2 v2.0.0
	github.com/stretchr/testify v1.12.1
	keenlantern.example/record v0.0.0
)

require (
	github.com/samber/go-type-to-string v1.8.0 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
)

replace keenlantern.example/record => ../
