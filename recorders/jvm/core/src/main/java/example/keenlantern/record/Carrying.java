package example.keenlantern.record;

import java.util.Collection;
import java.util.List;
import java.util.concurrent.AbstractExecutorService;
import java.util.concurrent.Callable;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.Future;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;

/** An executor whose tasks are part of the work that submitted them. */
final class Carrying extends AbstractExecutorService {
    private final Recorder recorder;
    private final ExecutorService executor;

    Carrying(Recorder recorder, ExecutorService executor) {
        this.recorder = recorder;
        this.executor = executor;
    }

    @Override
    public void execute(Runnable command) {
        executor.execute(recorder.work().carry(command));
    }

    @Override
    public Future<?> submit(Runnable task) {
        return executor.submit(recorder.work().carry(task));
    }

    @Override
    public <T> Future<T> submit(Runnable task, T result) {
        return executor.submit(recorder.work().carry(task), result);
    }

    @Override
    public <T> Future<T> submit(Callable<T> task) {
        return executor.submit(recorder.work().carryCall(task));
    }

    private <T> List<Callable<T>> all(Collection<? extends Callable<T>> tasks) {
        Work work = recorder.work();
        return tasks.stream().<Callable<T>>map(task -> work.carryCall(task)).toList();
    }

    @Override
    public <T> List<Future<T>> invokeAll(Collection<? extends Callable<T>> tasks) throws InterruptedException {
        return executor.invokeAll(all(tasks));
    }

    @Override
    public <T> List<Future<T>> invokeAll(Collection<? extends Callable<T>> tasks, long timeout, TimeUnit unit)
            throws InterruptedException {
        return executor.invokeAll(all(tasks), timeout, unit);
    }

    @Override
    public <T> T invokeAny(Collection<? extends Callable<T>> tasks) throws InterruptedException, ExecutionException {
        return executor.invokeAny(all(tasks));
    }

    @Override
    public <T> T invokeAny(Collection<? extends Callable<T>> tasks, long timeout, TimeUnit unit)
            throws InterruptedException, ExecutionException, TimeoutException {
        return executor.invokeAny(all(tasks), timeout, unit);
    }

    @Override
    public void shutdown() {
        executor.shutdown();
    }

    @Override
    public List<Runnable> shutdownNow() {
        return executor.shutdownNow();
    }

    @Override
    public boolean isShutdown() {
        return executor.isShutdown();
    }

    @Override
    public boolean isTerminated() {
        return executor.isTerminated();
    }

    @Override
    public boolean awaitTermination(long timeout, TimeUnit unit) throws InterruptedException {
        return executor.awaitTermination(timeout, unit);
    }
}
