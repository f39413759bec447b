// Package recorded holds small applications, each on one container library and using all of it, recorded by that library's
// adapter under real requests. They are sound, and count what they build, close and fail to build; and with one mistake each
// they are not. Its tests are about what the recordings say.
package recorded
