<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * Records a container made by hand, which calls it where it resolves something:
 *
 *     public static function resolve(string $name): object
 *     {
 *         return self::$wired->resolve($name, static fn () => self::$shared[$name] ??= (self::$bindings[$name])(), 'singleton');
 *     }
 *
 * An instance that is resolved while another one is being built is given to that one.
 */
final class Wired
{
    /** @var array<string, int> */
    private array $registrations = [];
    /** @var array<string, true> the services whose lifetime has been recorded */
    private array $lifetimes = [];
    /** @var list<list<array{inst: int, service: string}>> what each construction that runs has asked for */
    private array $running = [];
    /** @var list<string> the services whose constructions run, the outermost first */
    private array $names = [];
    private bool $reported = false; // the failure of the resolution in progress
    /** @var \WeakMap<\Throwable, bool> failures that have been reported */
    private \WeakMap $told;

    /** @param bool $nested whether constructions resolve their dependencies here, too */
    public function __construct(private readonly Recorder $recorder, private readonly bool $nested = true)
    {
        $this->told = new \WeakMap();
    }

    /**
     * Resolves a service, and records the instance or the failure.
     *
     * @param \Closure(): mixed $resolve the container's own way: it builds an instance, or returns the one there is
     * @param string $lifetime as it is meant: singleton, scoped or transient; '' where that is not known
     * @param ?\Closure(\Throwable): ?string $why classifies a failure as 'missing' or 'error', or null if the container did not fail; by
     *     default, each failure is an 'error'
     */
    public function resolve(string $service, \Closure $resolve, string $lifetime = '', ?\Closure $why = null): mixed
    {
        if (!$this->recorder->on()) {
            return $resolve();
        }
        if (\in_array($service, $this->names, true)) {
            $path = \array_slice($this->names, (int) \array_search($service, $this->names, true));
            $this->recorder->say('fail', [
                'service' => $service, 'why' => 'cycle', 'scope' => $this->recorder->scope(), 'path' => [...$path, $service],
            ]);
            $this->reported = true;
        }
        $began = $this->recorder->now();
        $depth = \count($this->running);
        $this->running[] = [];
        $this->names[] = $service;
        try {
            $found = $resolve();
        } catch (\Throwable $e) {
            $this->failed($service, $e, $why === null ? 'error' : $why($e), $depth);
            throw $e;
        } finally {
            $with = $this->running[$depth] ?? [];
            \array_splice($this->running, $depth);
            \array_splice($this->names, $depth);
            $this->reported = $this->reported && $depth > 0;
        }
        if (\is_object($found)) {
            $this->handOut($service, $found, $with, $began, $lifetime);
        }
        return $found;
    }

    /** Reports that something is not registered: the container has nothing to resolve. */
    public function missing(string $service): void
    {
        $this->say($service, 'missing', [], \count($this->names) - 1);
        $this->reported = $this->names !== [];
    }

    // What failed further in has been reported there.
    private function failed(string $service, \Throwable $e, ?string $why, int $depth): void
    {
        if ($why === null || isset($this->told[$e]) || $this->reported) {
            return;
        }
        $this->told[$e] = true;
        $this->say($service, $why, ['error' => $e::class], $depth - 1);
    }

    /** @param array<string, string> $more */
    private function say(string $service, string $why, array $more, int $by): void
    {
        $asked = $by >= 0 && isset($this->names[$by]) ? ['for' => $this->registrationOf($this->names[$by], '')] : [];
        $this->recorder->say('fail', ['service' => $service, 'why' => $why, 'scope' => $this->recorder->scope()] + $asked + $more);
    }

    /** @param list<array{inst: int, service: string}> $with */
    private function handOut(string $service, object $found, array $with, int $began, string $lifetime): void
    {
        $inst = $this->recorder->idOf($found);
        if ($inst === 0) {
            $inst = $this->recorder->make($found, [
                'reg' => $this->registrationOf($service, $lifetime), 'impl' => $found::class,
            ] + ($with === [] ? [] : ['with' => $with]) + ['ns' => $this->recorder->now() - $began, 'by' => 'factory']);
        }
        $by = \count($this->running) - 1;
        if ($by >= 0) {
            $this->running[$by][] = ['inst' => $inst, 'service' => $service];
            return;
        }
        $this->recorder->say('give', [
            'inst' => $inst, 'scope' => $this->recorder->scope(), 'service' => $service, 'entry' => $this->recorder->entry(), 'how' => 'locator',
        ]);
    }

    private function registrationOf(string $service, string $lifetime): int
    {
        $known = $this->registrations[$service] ?? 0;
        if ($known !== 0 && ($lifetime === '' || isset($this->lifetimes[$service]))) {
            return $known;
        }
        $members = ['service' => $service];
        if ($lifetime !== '') {
            $members['lifetime'] = $lifetime;
            $this->lifetimes[$service] = true;
        }
        if (!$this->nested) {
            $members['sees'] = ['shared', 'closes', 'fail'];
        }
        // A consumer that asked in vain before it was built is registered again, with its lifetime.
        return $this->registrations[$service] = $this->recorder->register($members, $known);
    }
}
