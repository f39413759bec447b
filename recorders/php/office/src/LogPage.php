<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class LogPage
{
    /** @var list<string> */
    private array $lines = [];

    public function write(string $line): void
    {
        $this->lines[] = $line;
    }
}
