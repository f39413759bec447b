package record

import "runtime"

// watch waits for the runtime to collect the object first, and then records that the instance is gone.
func watch(first *byte, r *Recorder, id identity, inst InstID) {
	runtime.AddCleanup(first, func(id identity) {
		if r.objects.drop(id, inst) {
			r.Forget(inst, "runtime")
		}
	}, id)
}
