<?php

// Jobs of a queue, one after the other in one worker.

declare(strict_types=1);

namespace Gallery\LaravelQueue;

use Illuminate\Contracts\Queue\Factory;
use Illuminate\Contracts\Queue\ShouldQueue;
use Illuminate\Foundation\Application;
use Illuminate\Queue\WorkerOptions;
use Saltmarsh\Office\Laravel\MemoryQueue;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

final class Furnace
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Melt
{
    public function __construct(public readonly Furnace $furnace)
    {
        Counts::made($this);
    }
}

final class Founder
{
    public function __construct(public readonly Melt $melt)
    {
        Counts::made($this);
    }
}

final class Casting implements ShouldQueue
{
    public function handle(Melt $melt, Founder $founder): void
    {
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app) use ($running): void {
        $app->singleton(Furnace::class);
        $app->scoped(Melt::class);
        if ($running->mistaken) {
            $app->singleton(Founder::class); // it keeps the melt of the first job
        }
    });
    $laravel->app->make('queue')->addConnector('memory', static fn () => new MemoryQueue());
    for ($n = 0; $n < 3; $n++) {
        $laravel->app->make(Factory::class)->connection('memory')->push(new Casting());
    }
    $laravel->app->make('queue.worker')->daemon('memory', 'default', new WorkerOptions(sleep: 0, stopWhenEmpty: true));
};
