module keenlantern.example/record

go 1.24.0
