<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

/** A process of the office that does one piece of work after the other, each in its own scope. */
interface Works
{
    /** Does a piece of work, or has it be done. */
    public function work(string $kind, string $name): void;

    /** Does what is left to be done. */
    public function finish(): void;
}
