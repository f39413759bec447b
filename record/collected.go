package record

import "runtime"

// watch waits for the runtime to collect the object at first and then says that the instance is forgotten.
func watch(first *byte, r *Recorder, at uintptr, inst InstID) {
	runtime.AddCleanup(first, func(at uintptr) {
		if r.objects.drop(at, inst) {
			r.Forget(inst, "runtime")
		}
	}, at)
}
