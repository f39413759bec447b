<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class HarbourClock
{
    public function now(): int
    {
        return time();
    }
}
