<?php

// Containers that are reset or replaced, while the recorder stays the same.

declare(strict_types=1);

namespace Gallery\SymfonyResetting;

use Gallery\Compiled;
use Gallery\Counts;
use Gallery\Running;
use Symfony\Component\DependencyInjection\ContainerBuilder;
use Symfony\Component\DependencyInjection\Reference;

final class Tide
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Jetty
{
    public function __construct(public readonly Tide $tide)
    {
        Counts::made($this);
    }
}

return static function (Running $running): void {
    $compiled = new Compiled($running, static function (ContainerBuilder $container): void {
        $container->register(Tide::class);
        $container->register(Jetty::class)->setPublic(true)->setArguments([new Reference(Tide::class)]);
    });
    for ($n = 0; $n < 4; $n++) {
        $container = $compiled->boot();
        $running->scope('request', 'GET jetty', static fn () => $container->get(Jetty::class));
        if ($n % 2 === 1) {
            $container->reset();
        }
    }
};
