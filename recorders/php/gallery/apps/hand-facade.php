<?php

// A container made by hand without any interface: bind, resolve, and a static façade.

declare(strict_types=1);

namespace Gallery\HandFacade;

use Gallery\Counts;
use Gallery\Running;
use KeenLantern\Record\Wired;

final class Loom
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Weaver
{
    public function __construct(public readonly Loom $loom)
    {
        Counts::made($this);
    }
}

final class Shed
{
    public static Wired $wired;
    /** @var array<string, \Closure(): object> */
    private static array $bindings = [];
    /** @var array<string, object> */
    private static array $shared = [];

    public static function bind(string $name, \Closure $build): void
    {
        self::$bindings[$name] = $build;
    }

    public static function resolve(string $name): object
    {
        if (!isset(self::$bindings[$name])) {
            self::$wired->missing($name);
            throw new \OutOfBoundsException("nothing is bound to $name");
        }
        return self::$wired->resolve($name, static fn () => self::$shared[$name] ??= (self::$bindings[$name])(), 'singleton');
    }
}

return static function (Running $running): void {
    Shed::$wired = new Wired($running->recorder());
    Shed::bind('loom', static fn () => new Loom());
    // The name is spelt otherwise.
    Shed::bind('weaver', static fn () => new Weaver(Shed::resolve($running->mistaken ? 'lom' : 'loom')));
    for ($n = 0; $n < 3; $n++) {
        $running->scope('request', 'GET /cloth', static function () use ($running): void {
            Shed::resolve('loom');
            $running->mistaken ? Running::refused(static fn () => Shed::resolve('weaver')) : Shed::resolve('weaver');
        });
    }
};
