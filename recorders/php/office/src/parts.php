<?php

// The parts of the Saltmarsh harbour pilot office. None of them knows of a container.

declare(strict_types=1);

namespace Saltmarsh\Office;

final class HarbourClock
{
    public function now(): int
    {
        return time();
    }
}

final class GaugeTides
{
    public function __construct(private readonly HarbourClock $clock)
    {
    }

    public function height(string $gauge): float
    {
        return (strlen($gauge) * 37 + $this->clock->now() % 7) / 10;
    }
}

/** What the water will do, from a table that somebody has worked out, or that takes a while to work out. */
final class TideModel
{
    /** @param list<float> $table */
    private function __construct(public readonly array $table)
    {
    }

    public static function fromAlmanac(): self
    {
        return new self([1.2, 1.9, 2.7, 3.1, 2.8, 2.0, 1.3]);
    }

    public static function workedOut(): self
    {
        $table = [];
        for ($hour = 0; $hour < 7; $hour++) {
            $height = 0.0;
            for ($n = 1; $n < 30000; $n++) {
                $height += sin($hour / $n) / $n;
            }
            $table[] = $height;
        }
        return new self($table);
    }
}

final class PilotRoster
{
    public function __construct(public readonly ?GaugeTides $tides = null)
    {
    }

    /** @return list<string> */
    public function onDuty(): array
    {
        return ['Ames', 'Bryce', 'Coll'];
    }
}

final class LogPage
{
    /** @var list<string> */
    private array $lines = [];

    public function write(string $line): void
    {
        $this->lines[] = $line;
    }
}

interface Weather
{
    public function wind(): int;
}

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

/** The weather that the office's tests use: it never blows. */
final class FakeWeather implements Weather
{
    public function wind(): int
    {
        return 0;
    }
}

final class BerthPlanner
{
    public function __construct(private readonly GaugeTides $tides, private readonly TideModel $model)
    {
    }

    public function plan(float $draught): string
    {
        return $this->tides->height('lock-gate') + $this->model->table[6] > $draught ? 'berth 3' : 'wait';
    }
}

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

final class TugCrew
{
    public function __construct(public readonly ?TugDispatcher $dispatcher = null)
    {
    }
}

final class TugDispatcher
{
    public function __construct(private readonly TugCrew $crew, private readonly Weather $weather)
    {
    }

    public function send(): string
    {
        return $this->weather->wind() > 9 ? 'stay' : 'a crew' . ($this->crew->dispatcher === null ? '' : ' that waits');
    }
}

final class RadioDesk
{
    public function __construct(private readonly Weather $weather)
    {
    }

    public function report(): string
    {
        return 'wind ' . $this->weather->wind();
    }
}

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
