<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

interface Tides
{
    public function height(string $gauge): float;
}
