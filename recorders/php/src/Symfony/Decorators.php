<?php

declare(strict_types=1);

namespace KeenLantern\Record\Symfony;

use Symfony\Component\DependencyInjection\Compiler\CompilerPassInterface;
use Symfony\Component\DependencyInjection\ContainerBuilder;

/**
 * Notes who decorates whom, before the container has its decorators take the names of what they decorate.
 *
 * @internal
 */
final class Decorators implements CompilerPassInterface
{
    /** @var array<string, string> the name that what it decorates will have, by the decorator's id */
    public array $inner = [];
    /** @var array<string, string> the name that people know a decorator, and what it decorates, by */
    public array $services = [];

    public function process(ContainerBuilder $container): void
    {
        foreach ($container->getDefinitions() as $id => $definition) {
            $decorated = $definition->getDecoratedService();
            if ($decorated === null) {
                continue;
            }
            $this->inner[(string) $id] = $decorated[1] ?? "$id.inner";
            $this->services[(string) $id] = $decorated[0];
            $this->services[$this->inner[(string) $id]] = $decorated[0];
        }
    }
}
