<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class BuoyWeather implements Weather
{
    public function __construct(private readonly HarbourClock $clock)
    {
    }

    public function wind(): int
    {
        return 4 + $this->clock->now() % 3;
    }
}
