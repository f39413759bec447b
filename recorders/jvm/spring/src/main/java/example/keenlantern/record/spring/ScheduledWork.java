package example.keenlantern.record.spring;

import example.keenlantern.record.Recorder;
import java.time.Clock;
import java.time.Duration;
import java.time.Instant;
import java.util.concurrent.ScheduledFuture;
import org.springframework.core.Ordered;
import org.springframework.scheduling.SchedulingAwareRunnable;
import org.springframework.scheduling.TaskScheduler;
import org.springframework.scheduling.Trigger;
import org.springframework.scheduling.annotation.SchedulingConfigurer;
import org.springframework.scheduling.config.ScheduledTaskRegistrar;

/** Has each run of a scheduled method be a scope. */
final class ScheduledWork implements SchedulingConfigurer, Ordered {
    private final Recorder recorder;

    ScheduledWork(Recorder recorder) {
        this.recorder = recorder;
    }

    @Override
    public int getOrder() {
        return LOWEST_PRECEDENCE; // the application's have chosen a scheduler by then
    }

    @Override
    public void configureTasks(ScheduledTaskRegistrar registrar) {
        TaskScheduler scheduler = registrar.getScheduler();
        if (scheduler != null) registrar.setTaskScheduler(new Watched(scheduler));
    }

    private final class Watched implements TaskScheduler {
        private final TaskScheduler scheduler;

        Watched(TaskScheduler scheduler) {
            this.scheduler = scheduler;
        }

        @Override
        public Clock getClock() {
            return scheduler.getClock();
        }

        @Override
        public ScheduledFuture<?> schedule(Runnable task, Trigger trigger) {
            return scheduler.schedule(new Run(task), trigger);
        }

        @Override
        public ScheduledFuture<?> schedule(Runnable task, Instant startTime) {
            return scheduler.schedule(new Run(task), startTime);
        }

        @Override
        public ScheduledFuture<?> scheduleAtFixedRate(Runnable task, Instant startTime, Duration period) {
            return scheduler.scheduleAtFixedRate(new Run(task), startTime, period);
        }

        @Override
        public ScheduledFuture<?> scheduleAtFixedRate(Runnable task, Duration period) {
            return scheduler.scheduleAtFixedRate(new Run(task), period);
        }

        @Override
        public ScheduledFuture<?> scheduleWithFixedDelay(Runnable task, Instant startTime, Duration delay) {
            return scheduler.scheduleWithFixedDelay(new Run(task), startTime, delay);
        }

        @Override
        public ScheduledFuture<?> scheduleWithFixedDelay(Runnable task, Duration delay) {
            return scheduler.scheduleWithFixedDelay(new Run(task), delay);
        }
    }

    private final class Run implements SchedulingAwareRunnable {
        private final Runnable task;
        private final String name;

        Run(Runnable task) {
            this.task = task;
            // A scheduled method says which it is; anything else is known by its class.
            String said = task.toString();
            name = said.matches("[\\w.$]+") ? said : task.getClass().getName().replaceAll("\\$\\$Lambda.*", "");
        }

        @Override
        public void run() {
            recorder.run("job", name, task);
        }

        @Override
        public boolean isLongLived() {
            return task instanceof SchedulingAwareRunnable aware && aware.isLongLived();
        }

        @Override
        public String getQualifier() {
            return task instanceof SchedulingAwareRunnable aware ? aware.getQualifier() : null;
        }

        @Override
        public String toString() {
            return task.toString();
        }
    }
}
