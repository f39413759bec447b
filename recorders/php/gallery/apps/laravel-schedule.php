<?php

// Scheduled tasks, each run with its own instance.

declare(strict_types=1);

namespace Gallery\LaravelSchedule;

use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;
use Illuminate\Console\Scheduling\Schedule;
use Illuminate\Console\Scheduling\ScheduleRunCommand;
use Illuminate\Contracts\Console\Kernel;
use Illuminate\Foundation\Application;

final class Broom
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Sweeper
{
    public function __construct(private readonly Broom $broom)
    {
        Counts::made($this);
    }

    public function sweep(): string
    {
        return $this->broom::class;
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app) use ($running): void {
        $app->scoped(Broom::class);
        if ($running->mistaken) {
            $app->singleton(Sweeper::class); // it keeps the broom of the first run
        }
    });
    $laravel->app->make(Kernel::class)->registerCommand(new ScheduleRunCommand());
    $schedule = $laravel->app->make(Schedule::class);
    $schedule->call(static fn (): string => $laravel->app->make(Sweeper::class)->sweep())->description('sweep');
    for ($n = 0; $n < 3; $n++) {
        $laravel->app->make(Kernel::class)->call('schedule:run');
        $laravel->app->forgetScopedInstances();
    }
};
