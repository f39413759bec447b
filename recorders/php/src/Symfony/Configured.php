<?php

declare(strict_types=1);

namespace KeenLantern\Record\Symfony;

/**
 * Comes behind the setters of an instance, and has it be configured by whatever the application named for that.
 *
 * @internal
 */
final class Configured
{
    public function __construct(private readonly Wiring $wiring, private readonly string $id, private readonly mixed $configurator)
    {
    }

    public function configure(object $instance): void
    {
        $this->wiring->filled($this->id, $instance);
        if ($this->configurator !== null) {
            ($this->configurator)($instance);
        }
    }
}
