<?php

// A container whose factories ask itself, so that what they are given is not seen.

declare(strict_types=1);

namespace Gallery\HandPimple;

use Gallery\Counts;
use Gallery\Running;
use KeenLantern\Record\RecordedContainer;
use Pimple\Container;
use Pimple\Psr11\Container as Psr;

final class Kiln
{
    public function __construct()
    {
        Counts::made($this);
    }
}

final class Potter
{
    public function __construct(public readonly Kiln $kiln)
    {
        Counts::made($this);
    }
}

return static function (Running $running): void {
    $pimple = new Container();
    $pimple['kiln'] = static fn () => new Kiln();
    $pimple['potter'] = static fn (Container $c) => new Potter($c['kiln']);
    $container = new RecordedContainer(new Psr($pimple), $running->recorder(), ['kiln' => 'singleton', 'potter' => 'singleton'], nested: false);
    for ($n = 0; $n < 3; $n++) {
        $running->scope('request', 'GET /pots', static function () use ($container, $running): void {
            $container->get('kiln');
            $container->get('potter');
            if ($running->mistaken) {
                Running::refused(static fn () => $container->get('poter')); // it is spelt otherwise
            }
        });
    }
};
