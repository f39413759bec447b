<?php

declare(strict_types=1);

namespace KeenLantern\Record\Illuminate;

use Illuminate\Console\Events as Console;
use Illuminate\Contracts\Events\Dispatcher;
use Illuminate\Contracts\Http\Kernel;
use Illuminate\Foundation\Http\Kernel as FoundationKernel;
use Illuminate\Queue\Events as Queue;
use Illuminate\Queue\Jobs\SyncJob;
use Illuminate\Routing\Events\RouteMatched;
use Illuminate\Support\ServiceProvider;
use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;

/**
 * Records an application of the framework: its container, where the application is a RecordedApplication or has its trait, and
 * its requests, jobs, commands and scheduled tasks as scopes. What is recorded and where it goes is in the environment, as
 * Settings::fromEnvironment reads it, or bound as Settings before.
 */
final class RecordingServiceProvider extends ServiceProvider
{
    /** Commands whose process serves one job after the other. */
    private const RESIDENT = ['queue:work', 'octane:start', 'horizon:work'];
    private const LOOPS = ['queue:listen', 'schedule:work', 'horizon'];

    private ?Recorder $recorder = null;
    private ?object $kernel = null;
    private bool $resident = false;
    /** @var array<string, list<int>> the scopes of jobs, tasks and commands that run */
    private array $open = [];

    public function register(): void
    {
        $command = $this->app->runningInConsole() ? (string) ($_SERVER['argv'][1] ?? '') : '';
        $resident = \in_array($command, self::RESIDENT, true);
        $bound = $this->app->bound(Settings::class);
        if (!$bound && !$resident && !Settings::wanted()) {
            return; // before anything is built for recording
        }
        $settings = $bound
            ? $this->app->make(Settings::class)
            : Settings::fromEnvironment((string) $this->app['config']['app.name'], $resident);
        $recorder = new Recorder($settings);
        if (!$recorder->mayRecord() || \in_array($command, self::LOOPS, true)) {
            return;
        }
        $this->recorder = $recorder;
        $this->resident = $settings->resident;
        // Before anything is recorded, which it is no part of.
        $this->kernel = $this->resident && $this->app->bound(Kernel::class) ? $this->app->make(Kernel::class) : null;
        $this->app->instance(Recorder::class, $recorder);
        if (\method_exists($this->app, 'recordWith')) {
            $this->app->recordWith($recorder);
        } else {
            \error_log('Keen Lantern sees requests and jobs only: bootstrap/app.php makes no ' . RecordedApplication::class);
        }
        // Rather than in boot: what is not recorded is not called again.
        $this->app->booted($this->scopes(...));
    }

    private function scopes(): void
    {
        $events = $this->app->make(Dispatcher::class);
        if (!$this->app->runningInConsole() || $this->resident) {
            $this->requests($events);
        }
        if (!$this->app->runningInConsole()) {
            return;
        }
        $ends = [Queue\JobProcessed::class, Queue\JobExceptionOccurred::class];
        $this->watch($events, Queue\JobProcessing::class, $ends, function (object $event): ?array {
            // A job of the synchronous queue is a part of what dispatches it, whose instances it shares.
            return $event->job instanceof SyncJob ? null : ['job', $event->job->resolveName()];
        });
        $this->watch($events, Console\CommandStarting::class, [Console\CommandFinished::class], function (object $event): ?array {
            $command = (string) $event->command;
            return \in_array($command, [...self::RESIDENT, ...self::LOOPS, ''], true) ? null : ['command', $command];
        });
        $ends = [Console\ScheduledTaskFinished::class, Console\ScheduledTaskFailed::class];
        $this->watch($events, Console\ScheduledTaskStarting::class, $ends, function (object $event): ?array {
            return ['job', (string) ($event->task->description ?: 'scheduled task')];
        });
        $events->listen(Queue\Looping::class, function (): void {
            $this->recorder->tick();
        });
    }

    private function requests(Dispatcher $events): void
    {
        $requests = new RecordedRequests($this->recorder);
        if (!$this->resident && $this->app->bound('request')) {
            $requests->begin($this->app->make('request')); // it is what this process is for, and goes on until that ends
        } elseif ($this->kernel instanceof FoundationKernel) {
            $this->app->instance(RecordedRequests::class, $requests);
            $this->kernel->prependMiddleware(RecordedRequests::class);
        }
        $this->app->terminating($requests->end(...));
        $events->listen(RouteMatched::class, static function (RouteMatched $event) use ($requests): void {
            $action = $event->route->getActionName();
            $requests->is($event->request, $event->route->uri(), $action === 'Closure' ? '' : $action);
        });
    }

    /**
     * Has what happens between two events be a scope.
     *
     * @param class-string $begins
     * @param list<class-string> $ends
     * @param \Closure(object): ?array{string, string} $of its kind and name, null for none
     */
    private function watch(Dispatcher $events, string $begins, array $ends, \Closure $of): void
    {
        $this->open[$begins] = [];
        $events->listen($begins, function (object $event) use ($begins, $of): void {
            $is = $of($event);
            $this->open[$begins][] = $is === null ? 0 : $this->recorder->open($is[0], $is[1]);
            if ($is !== null) {
                $this->recorder->handledBy($is[1]);
            }
        });
        $events->listen($ends, function () use ($begins): void {
            $scope = \array_pop($this->open[$begins]);
            if ($scope !== null && $scope !== 0) {
                $this->recorder->close($scope);
            }
        });
    }
}
