<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

/** The weather that the office's tests use: it never blows. */
final class FakeWeather implements Weather
{
    public function wind(): int
    {
        return 0;
    }
}
