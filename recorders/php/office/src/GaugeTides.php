<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class GaugeTides implements Tides
{
    public function __construct(private readonly HarbourClock $clock)
    {
    }

    public function height(string $gauge): float
    {
        return (strlen($gauge) * 37 + $this->clock->now() % 7) / 10;
    }
}
