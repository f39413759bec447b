<?php

// A singleton that asks for the request whenever it needs it.

declare(strict_types=1);

namespace Gallery\LaravelResident;

use Illuminate\Foundation\Application;
use Illuminate\Http\Request;
use Illuminate\Routing\Router;
use Gallery\Counts;
use Gallery\Laravel;
use Gallery\Running;

final class Clerk
{
    /** @param \Closure(): Request $request */
    public function __construct(private readonly \Closure $request)
    {
        Counts::made($this);
    }

    public function reads(): string
    {
        return ($this->request)()->path();
    }
}

final class HastyClerk
{
    public function __construct(private readonly Request $request)
    {
        Counts::made($this);
    }

    public function reads(): string
    {
        return $this->request->path();
    }
}

return static function (Running $running): void {
    $clerk = $running->mistaken ? HastyClerk::class : Clerk::class;
    $laravel = new Laravel($running, static function (Application $app) use ($clerk, $running): void {
        // It keeps the request that it was built in.
        $app->singleton($clerk, static fn (Application $app) => $running->mistaken
            ? new HastyClerk($app->make('request'))
            : new Clerk(static fn () => $app->make('request')));
    }, static function (Router $router) use ($clerk): void {
        $router->get('/letters/{name}', static fn (Application $app): string => $app->make($clerk)->reads());
    });
    foreach (['ann', 'ben', 'cleo'] as $name) {
        $laravel->get("/letters/$name");
    }
};
