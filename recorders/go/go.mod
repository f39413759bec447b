module keenlantern.example/record

go 1.26
