<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

/** An office at work, whatever it is wired with. */
interface Works
{
    /** Does one piece of work in a scope of its own. */
    public function work(string $kind, string $name, ?string $traceparent = null): string;
}
