<?php

// Static façades, and events with listeners that the container builds.

declare(strict_types=1);

namespace Gallery\LaravelFacades;

use Illuminate\Foundation\Application;
use Illuminate\Routing\Router;
use Illuminate\Support\Facades\Event;
use Illuminate\Support\Facades\Facade;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

final class Harp
{
    public function __construct()
    {
        Counts::made($this);
    }

    public function play(): string
    {
        return 'played';
    }
}

final class Music extends Facade
{
    protected static function getFacadeAccessor(): string
    {
        return 'harp';
    }
}

final class Listener
{
    public function __construct()
    {
        Counts::made($this);
    }

    public function handle(): void
    {
    }
}

return static function (Running $running): void {
    $laravel = new Laravel($running, static function (Application $app) use ($running): void {
        // The façade asks for it by another name.
        $app->singleton($running->mistaken ? 'harfe' : 'harp', Harp::class);
    }, static function (Router $router): void {
        Event::listen('played', Listener::class);
        $router->get('/music', static function (): string {
            $played = Music::play();
            Event::dispatch('played');
            return $played;
        });
    });
    for ($n = 0; $n < 3; $n++) {
        $laravel->get('/music', status: $running->mistaken ? 500 : 200);
    }
};
