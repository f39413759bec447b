<?php

// Autowired services, and decorators around one of them.

declare(strict_types=1);

namespace Gallery\SymfonyDecorators;

use Gallery\Compiled;
use Gallery\Counts;
use Gallery\Running;
use Symfony\Component\DependencyInjection\ContainerBuilder;
use Symfony\Component\DependencyInjection\Reference;

interface Lake
{
}

final class MountainLake implements Lake
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class DredgedLake implements Lake
{
    public function __construct(private readonly Lake $inner)
    {
        Counts::made($this);
    }
}

final class FencedLake implements Lake
{
    public function __construct(private readonly Lake $inner)
    {
        Counts::made($this);
    }
}

final class Fisher
{
    public function __construct(public readonly Lake $lake)
    {
        Counts::made($this);
    }
}

final class Swimmer
{
    public function __construct(public readonly Lake $lake)
    {
        Counts::made($this);
    }
}

return static function (Running $running): void {
    $compiled = new Compiled($running, static function (ContainerBuilder $container) use ($running): void {
        $container->autowire(MountainLake::class);
        $container->setAlias(Lake::class, MountainLake::class);
        $container->autowire(DredgedLake::class)->setDecoratedService(Lake::class)->setArgument('$inner', new Reference('.inner'));
        $container->autowire(FencedLake::class)->setDecoratedService(Lake::class, null, 5)->setArgument('$inner', new Reference('.inner'));
        $container->autowire(Fisher::class)->setPublic(true);
        $container->autowire(Swimmer::class)->setPublic(true);
        if ($running->mistaken) {
            // It bypasses the outer decorator.
            $container->getDefinition(Swimmer::class)->setArgument('$lake', new Reference(DredgedLake::class . '.inner'));
        }
    });
    $container = $compiled->boot();
    for ($n = 0; $n < 3; $n++) {
        $running->scope('request', 'GET lake', static function () use ($container, $running): void {
            $container->get(Swimmer::class);
            // In the mistaken one, the outer decorators are not built.
            if (!$running->mistaken) {
                $container->get(Fisher::class);
            }
        });
    }
};
