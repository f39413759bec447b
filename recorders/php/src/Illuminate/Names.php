<?php

declare(strict_types=1);

namespace KeenLantern\Record\Illuminate;

use Illuminate\Container\Container;

/**
 * What a recorded container has reported of its names. A clone of the container shares it.
 *
 * @internal
 */
final class Names
{
    /** @var array<string, array<string, int>> registrations by name and variant */
    public array $registrations = [];
    /** @var array<string, int> the layers around the instances of a name */
    public array $layers = [];
    /** @var array<string, mixed> what each registered name was bound to */
    public array $bound = [];
    /** @var array<int, bool> whether the application bound a registration to a closure of its own */
    private array $closures = [];
    /** @var \WeakReference<Container> the container that is recorded, rather than a clone of it */
    private \WeakReference $first;

    public function __construct(Container $first)
    {
        $this->first = \WeakReference::create($first);
    }

    public function isFirst(object $container): bool
    {
        return $this->first->get() === $container;
    }

    /** Reports whether a registration is bound to a closure of the application's; for a class, the container makes one of its own. */
    public function builtByClosure(int $registration, mixed $concrete): bool
    {
        return $this->closures[$registration] ??= $concrete instanceof \Closure
            && (new \ReflectionFunction($concrete))->getFileName() !== (new \ReflectionClass(Container::class))->getFileName();
    }

    public function clear(): void
    {
        $this->registrations = $this->layers = $this->bound = $this->closures = [];
    }
}
