<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class BerthPlanner
{
    public function __construct(private readonly Tides $tides, private readonly TideModel $model)
    {
    }

    public function plan(float $draught): string
    {
        return $this->tides->height('lock-gate') + $this->model->table[6] > $draught ? 'berth 3' : 'wait';
    }
}
