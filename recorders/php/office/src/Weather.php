<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

interface Weather
{
    public function wind(): int;
}
