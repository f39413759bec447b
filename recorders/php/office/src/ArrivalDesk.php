<?php

declare(strict_types=1);

namespace Saltmarsh\Office;

final class ArrivalDesk
{
    public function __construct(private readonly BerthPlanner $planner, private readonly PilotRoster $roster, private readonly LogPage $log)
    {
    }

    public function take(string $ship): string
    {
        $berth = $this->planner->plan(strlen($ship) / 2);
        $this->log->write($ship . ': ' . $berth . ', ' . $this->roster->onDuty()[0]);
        return $berth;
    }
}
