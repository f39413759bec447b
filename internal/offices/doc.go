// Package offices runs the harbour pilot office of every runtime against a service, and compares what is found with
// testdata/offices.yaml. It holds tests only.
package offices
