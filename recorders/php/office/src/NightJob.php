<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class NightJob
{
    public function __construct(private readonly HarbourClock $clock, private readonly LogPage $log)
    {
    }

    public function run(): void
    {
        $this->log->write('night ' . $this->clock->now());
    }
}
