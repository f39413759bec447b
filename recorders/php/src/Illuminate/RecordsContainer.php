<?php

declare(strict_types=1);

namespace KeenLantern\Record\Illuminate;

use Illuminate\Container\BoundMethod;
use Illuminate\Container\Container;
use Illuminate\Container\RewindableGenerator;
use Illuminate\Contracts\Debug\ExceptionHandler;
use Illuminate\Support\Facades\Facade;
use KeenLantern\Record\Recorder;
use Symfony\Component\HttpFoundation\Request;

/**
 * Records an Illuminate container: use it in a class that extends Illuminate\Container\Container or
 * Illuminate\Foundation\Application, and call recordWith before anything is resolved.
 *
 * It overrides what the container's own subclasses may override; what the application sees stays the same.
 */
trait RecordsContainer
{
    private ?Recorder $lantern = null;
    private ?Names $lanternNames = null; // which a clone of the container shares
    private ?string $lanternTag = null; // what is resolved next is one of all that have it
    private ?Resolution $lanternNow = null; // the innermost that runs

    /** Records what is resolved from now on. */
    public function recordWith(Recorder $recorder): static
    {
        $this->lantern = $recorder->mayRecord() ? $recorder : null;
        $this->lanternNames ??= new Names($this);
        return $this;
    }

    /** Has the layer be seen that is put around an instance: when that is built, or now if it is there already. */
    public function extend($abstract, \Closure $closure)
    {
        $name = $this->getAlias($abstract);
        parent::extend($abstract, function ($inner, $container) use ($closure, $name) {
            if ($this->lantern === null || !$this->lantern->on() || !\is_object($inner)) {
                return $closure($inner, $container);
            }
            $now = $this->lanternNow;
            if ($now === null || $now->name !== $name || $now->key === null && isset($this->instances[$name])) {
                return $this->lanternLateLayer($name, $inner, $closure);
            }
            $this->lanternMade($now, $inner); // what is resolved from now on is the layer's
            $outer = $closure($inner, $container);
            $this->lanternLayer($now, $inner, $outer);
            return $outer;
        });
    }

    private function lanternLateLayer(string $name, object $inner, \Closure $closure): mixed
    {
        $by = $this->lanternNow;
        $now = new Resolution($name, null, \hrtime(true), $by);
        $now->layers = $this->lanternNames->layers[$name] ?? 0;
        $now->external = $this->lantern->idOf($inner) === 0;
        $this->lanternMade($now, $inner);
        $now->external = false;
        $this->lanternNow = $now;
        try {
            $outer = $closure($inner, $this);
        } finally {
            $this->lanternNow = $by;
            $now->outer = null; // it would keep what it is resolved for
        }
        if ($this->lanternLayer($now, $inner, $outer)) {
            $now->object = $outer;
            $this->lanternMade($now, $outer);
        }
        return $outer;
    }

    /** Notes that what is being built is now a layer around something, if it is. */
    private function lanternLayer(Resolution $now, object $inner, mixed $outer): bool
    {
        if ($outer === $inner || !\is_object($outer)) {
            return false;
        }
        $this->lanternNames->layers[$now->name] = ++$now->layers;
        \array_unshift($now->given, $this->lantern->idOf($inner));
        return true;
    }

    /** Sees what is set again on an instance whenever a name is rebound. */
    public function refresh($abstract, $target, $method)
    {
        $found = parent::refresh($abstract, $target, $method);
        if ($this->lantern !== null) {
            $this->reboundCallbacks[$this->getAlias($abstract)][] = function ($app, $instance) use ($abstract, $target): void {
                if (\is_object($instance) && \is_object($target) && $this->lantern->idOf($instance) !== 0) {
                    $this->lantern->say('give', \array_filter([
                        'inst' => $this->lantern->idOf($instance), 'scope' => $this->lantern->scope(), 'to' => $this->lantern->idOf($target),
                    ]) + ['service' => $this->getAlias($abstract), 'how' => 'property']);
                }
            };
        }
        return $found;
    }

    /** Sees that all that have a tag are asked for, rather than one after the other by name. */
    public function tagged($tag)
    {
        $all = parent::tagged($tag);
        if ($this->lantern === null || !$all instanceof RewindableGenerator) {
            return $all;
        }
        return new RewindableGenerator(function () use ($all, $tag) {
            $each = $all->getIterator();
            for (;; $this->lanternTag = $tag, $each->next()) {
                $this->lanternTag = $tag;
                $more = $each->valid();
                $this->lanternTag = null;
                if (!$more) {
                    return;
                }
                yield $each->key() => $each->current();
            }
        }, \count($all));
    }

    /** Has what the container kept be released. */
    public function flush()
    {
        parent::flush();
        if ($this->lanternNames?->isFirst($this) !== true) {
            return; // a clone's instances end with its request
        }
        $this->lanternNames->clear();
        $this->lantern?->say('forget', ['container' => 1, 'by' => 'container']);
    }

    protected function resolve($abstract, $parameters = [], $raiseEvents = true)
    {
        if ($this->lantern === null || !\is_string($abstract) || !$this->lantern->on()) {
            return parent::resolve($abstract, $parameters, $raiseEvents);
        }
        $name = isset($this->aliases[$abstract]) ? $this->getAlias($abstract) : $abstract;
        $own = $parameters !== [];
        $there = $own ? null : $this->instances[$name] ?? null;
        $by = $this->lanternNow;
        if ($by === null && self::lanternInternal($there)) {
            return parent::resolve($abstract, $parameters, $raiseEvents); // the framework looks its own things up again and again
        }
        $key = $own ? 'with parameters' : null;
        $shared = $there !== null;
        if ($this->contextual !== [] && $this->getContextualConcrete($name) !== null) {
            $key = 'for ' . ($by->name ?? 'the caller');
            $shared = false;
        }
        $now = new Resolution($name, $key, \hrtime(true), $by, $this->lanternTag);
        $this->lanternTag = null;
        if (!$shared && $by !== null) {
            $this->lanternCircle($now);
        }
        $this->lanternNow = $now;
        try {
            $object = parent::resolve($abstract, $parameters, $raiseEvents);
        } catch (\Throwable $e) {
            $this->lanternFailed($now, $e);
            throw $e;
        } finally {
            $this->lanternNow = $by;
            $now->outer = null; // it would keep what it is resolved for
        }
        if (\is_object($object)) {
            $this->lanternResolved($now, $by, $object, $shared);
        }
        return $object;
    }

    private function lanternCircle(Resolution $now): void
    {
        $same = $now->outer;
        while ($same !== null && ($same->name !== $now->name || $same->key !== $now->key)) {
            $same = $same->outer;
        }
        if ($same === null) {
            return;
        }
        $now->circular = true;
        if ($same->circular) {
            return; // it has been told
        }
        $same->circular = true;
        $path = [];
        for ($one = $now; $one !== $same; $one = $one->outer) {
            $path[] = $one->name;
        }
        $path[] = $same->name;
        $this->lantern->say('fail', [
            'service' => $now->name, 'why' => 'cycle', 'scope' => $this->lantern->scope(), 'path' => \array_reverse($path),
        ]);
    }

    private function lanternFailed(Resolution $now, \Throwable $e): void
    {
        foreach ($now->inner as $inner) {
            $this->lanternTold($inner);
        }
        // The innermost one says why; further out it is the same failure.
        if ($now->failed || !$e instanceof \Psr\Container\ContainerExceptionInterface) {
            return;
        }
        for ($one = $now; $one !== null; $one = $one->outer) {
            $one->failed = true;
        }
        $missing = !$this->bound($now->name) && !(\class_exists($now->name) && (new \ReflectionClass($now->name))->isInstantiable());
        $this->lantern->say('fail', [
            'service' => $now->name, 'why' => $missing ? 'missing' : 'error', 'scope' => $this->lantern->scope(),
        ] + $this->lanternAsker($now) + ['error' => $e::class]);
    }

    /** @return array<string, mixed> who asked for what could not be had */
    private function lanternAsker(Resolution $now): array
    {
        $by = $now->outer;
        while ($by !== null && $by->outer !== null && \str_starts_with($by->key ?? '', 'for ')) {
            $by = $by->outer; // what is bound for one consumer is asked for by that
        }
        if ($by !== null) {
            return self::lanternOwn($by->name) ? [] : ['for' => $this->lanternRegistration($by), 'path' => [$by->name, $now->name]];
        }
        // The framework's own handling of failures goes on without what it looks up.
        return $this->lanternCaller() === 'failure' ? ['optional' => true] : ['entry' => $this->lantern->entry()];
    }

    /** What calls the container, where nothing is being built: 'filling' a handler's parameters, handling a 'failure', or '' for code. */
    private function lanternCaller(): string
    {
        foreach (\debug_backtrace(\DEBUG_BACKTRACE_IGNORE_ARGS, 24) as $frame) {
            $class = $frame['class'] ?? '';
            $function = $frame['function'];
            if (
                $class === '' && \in_array($function, ['app', 'resolve'], true) || $class === self::class || \is_a($class, Container::class, true)
                || \is_a($class, Facade::class, true)
            ) {
                continue; // the container itself
            }
            return match (true) {
                \is_a($class, ExceptionHandler::class, true) => 'failure',
                $class === BoundMethod::class, $function === 'transformDependency', $function === 'resolveMethodDependencies' => 'filling',
                default => '',
            };
        }
        return '';
    }

    private function lanternResolved(Resolution $now, ?Resolution $by, object $object, bool $shared): void
    {
        $now->object = $object;
        $now->ended = \hrtime(true);
        if ($by !== null) {
            $now->external = $shared && $this->lantern->idOf($object) === 0;
            $by->inner[] = $now; // it is what the outer one is, or is given to it: that is known when the outer one is there
            return;
        }
        $internal = self::lanternInternal($object);
        if ($internal && !self::lanternConcerns($now)) {
            return; // what the framework builds for itself is recorded where the application is given it
        }
        if ($shared && $this->lantern->idOf($object) === 0) {
            $now->external = true;
        }
        $this->lanternTold($now);
        if ($internal) {
            return;
        }
        $this->lantern->say('give', [
            'inst' => $this->lantern->idOf($object), 'scope' => $this->lantern->scope(), 'service' => $now->name,
        ] + ($now->key === null || $now->leadsTo !== null ? [] : ['key' => $now->key]) + [
            'entry' => $this->lantern->entry(), 'how' => $this->lanternCaller() === 'filling' ? 'method' : 'locator',
        ] + ($now->tag === null ? [] : ['all' => true]));
    }

    /** Whether it is the framework's own. */
    private static function lanternInternal(mixed $object): bool
    {
        return \is_object($object) && self::lanternOwn($object::class);
    }

    private static function lanternOwn(string $class): bool
    {
        return \str_starts_with($class, 'Illuminate\\') || \str_starts_with($class, 'Symfony\\') || \str_starts_with($class, 'KeenLantern\\Record\\');
    }

    /** Reports whether an object is one request's: the request itself, or a container that a server has cloned for it. */
    private function lanternOfRequest(?object $object): bool
    {
        return ($object instanceof Request || $object instanceof Container && !$this->lanternNames->isFirst($object))
            && $this->lantern->scope() !== 0;
    }

    /** Whether something of the application's was built or handed out for it. */
    private static function lanternConcerns(Resolution $now): bool
    {
        foreach ($now->inner as $inner) {
            if (!self::lanternInternal($inner->object) || self::lanternConcerns($inner)) {
                return true;
            }
        }
        return false;
    }

    /** Reports what has been resolved, what it was given first. */
    private function lanternTold(Resolution $now): void
    {
        if ($now->object !== null) {
            $this->lanternMade($now, $now->object);
        } else {
            foreach ($now->inner as $inner) {
                $this->lanternTold($inner);
            }
        }
        $now->inner = [];
    }

    /** Tells that the object has been made of a name, or of the layers around it, unless that is known. */
    private function lanternMade(Resolution $now, object $object): void
    {
        $given = $now->given;
        $now->given = [];
        $tagged = null; // the one before, where all that have a tag are asked for
        $internal = self::lanternInternal($object);
        foreach ($now->inner as $inner) {
            if ($internal && $this->lanternOfRequest($inner->object)) {
                continue; // the framework's own have each new request set on them
            }
            if ($inner->object === $object && $this->bound($inner->name)) {
                // The name leads to another one that is registered itself: what is there is that one's.
                $this->lanternTold($inner);
                $this->lanternLeads($now, $inner);
                continue;
            }
            if ($inner->object === $object && !$inner->external) {
                // An interface's name leads to that of a class: one instance, of the name that was registered.
                foreach ($inner->inner as $further) {
                    $this->lanternTold($further);
                    if (($one = $this->lanternGiven($further)) !== 0) {
                        $given[] = $one;
                    }
                }
                $given = [...$given, ...$inner->given];
                continue;
            }
            $this->lanternTold($inner);
            $one = $this->lanternGiven($inner);
            if ($one === 0) {
                $tagged = null;
            } elseif ($inner->tag !== null && $inner->tag === $tagged) {
                $given[\count($given) - 1][] = $one;
            } else {
                $tagged = $inner->tag;
                $given[] = $tagged === null ? $one : [$one];
            }
        }
        $now->inner = [];
        if ($this->lantern->idOf($object) !== 0) {
            return;
        }
        $ended = $now->ended ?: \hrtime(true);
        // Each HTTP request has its own request object, under one registration.
        $now->handedIn = $now->external && !$this->lanternOfRequest($object) && isset($this->lanternNames->registrations[$now->name]["\0" . '0']);
        $members = ['reg' => $this->lanternRegistration($now), 'impl' => $object::class];
        if ($given !== []) {
            $members['with'] = $given;
        }
        if ($now->external) {
            $members['by'] = 'external';
            if ($this->lanternOfRequest($object)) {
                $members['owner'] = $this->lantern->scope();
            }
        } else {
            if ($this->lanternNames->builtByClosure($members['reg'], $this->bindings[$now->name]['concrete'] ?? null)) {
                $members['by'] = 'factory';
            }
            $members['ns'] = \max(0, $ended - $now->began);
        }
        $this->lantern->make($object, $members, $this->lantern->at($ended));
    }

    /** Notes that a name leads to another one's registration: for all, or for the one consumer that asks. */
    private function lanternLeads(Resolution $now, Resolution $to): void
    {
        $now->leadsTo = $to->leadsTo ?? $to;
        if ($now->key === null && !isset($this->lanternNames->registrations[$now->name]["\0" . '0'])) {
            $this->lanternNames->registrations[$now->name]["\0" . '0'] = $this->lantern->register([
                'service' => $now->name, 'lifetime' => $this->lanternLifetime($now->leadsTo), 'alias' => $this->lanternRegistration($now->leadsTo),
            ]);
        }
    }

    /** @return int|array<string, mixed> its id, with what else there is to be said; 0: it has none */
    private function lanternGiven(Resolution $one): int|array
    {
        if ($one->key !== null && $one->leadsTo !== null) {
            $one = $one->leadsTo;
        }
        $inst = $one->object === null ? 0 : $this->lantern->idOf($one->object);
        if ($inst === 0 || $one->key === null && $one->leadsTo === null && isset($this->lanternNames->registrations[$one->name])) {
            return $inst; // it was asked for by what it is registered as
        }
        return ['inst' => $inst, 'service' => $one->name] + ($one->key === null ? [] : ['key' => $one->key]);
    }

    private function lanternRegistration(Resolution $now): int
    {
        // What was rebound under a name is another registration, and so is an instance that was handed in for one that was built.
        $bound = $this->bindings[$now->name]['concrete'] ?? null;
        if ($now->handedIn || ($this->lanternNames->bound[$now->name] ?? null) !== $bound) {
            unset($this->lanternNames->registrations[$now->name], $this->lanternNames->layers[$now->name]);
        }
        $this->lanternNames->bound[$now->name] = $bound;
        // Instances that a clone builds end with the clone.
        $cloned = !$this->lanternNames->isFirst($this) && !$now->external ? 'of a clone' : '';
        $id = $now->key . "\0" . $now->layers . $cloned;
        if (isset($this->lanternNames->registrations[$now->name][$id])) {
            return $this->lanternNames->registrations[$now->name][$id];
        }
        $members = ['service' => $now->name, 'lifetime' => $this->lanternLifetime($now)];
        if (self::lanternInternal($now->object)) {
            $members['internal'] = true;
        }
        if ($now->key !== null) {
            $members['key'] = $now->key;
        }
        if ($now->layers > 0) {
            $inner = clone $now;
            $inner->layers--;
            $inner->handedIn = false;
            $members['wraps'] = $this->lanternRegistration($inner);
        }
        return $this->lanternNames->registrations[$now->name][$id] = $this->lantern->register($members);
    }

    private function lanternLifetime(Resolution $now): string
    {
        return match (true) {
            $now->key !== null => 'transient',
            $now->handedIn => 'external',
            \in_array($now->name, $this->scopedInstances, true) => 'scoped',
            $this->lanternOfRequest($now->object) => 'scoped',
            isset($this->bindings[$now->name]) => match (true) {
                !$this->bindings[$now->name]['shared'] => 'transient',
                $this->lanternNames->isFirst($this) => 'singleton',
                default => 'scoped',
            },
            $now->external => 'external',
            default => 'transient',
        };
    }
}
