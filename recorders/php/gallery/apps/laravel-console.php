<?php

// Commands, which have what they need filled in.

declare(strict_types=1);

namespace Gallery\LaravelConsole;

use Illuminate\Console\Command;
use Illuminate\Contracts\Console\Kernel;
use Illuminate\Foundation\Application;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

interface Ink
{
}

final class SootInk implements Ink
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Press
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class PrintCommand extends Command
{
    protected $signature = 'gallery:print';

    public function handle(Press $press, Ink $ink): int
    {
        return 0;
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app) use ($running): void {
        $app->singleton(Press::class);
        if (!$running->mistaken) {
            $app->bind(Ink::class, SootInk::class); // the mistaken one has nothing for it
        }
    });
    $kernel = $laravel->app->make(Kernel::class);
    $kernel->registerCommand(new PrintCommand());
    for ($n = 0; $n < 2; $n++) {
        $running->mistaken ? Running::refused(static fn () => $kernel->call('gallery:print')) : $kernel->call('gallery:print');
    }
};
