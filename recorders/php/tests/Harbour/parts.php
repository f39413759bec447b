<?php

declare(strict_types=1);

namespace Saltmarsh\Harbour;

enum Port
{
    case One;
}
interface Tides
{
}
class Clock
{
}
class GaugeTides implements Tides
{
    public function __construct(public Clock $clock)
    {
    }
}
class RoundedTides implements Tides
{
    public function __construct(public Tides $inner)
    {
    }
}
class Page
{
}
class Planner
{
    public function __construct(public Tides $tides, public Clock $clock)
    {
    }
}
class Desk
{
    public function __construct(public Planner $planner, public Page $page)
    {
    }
}
class Crew
{
    public function __construct(public Weather $weather)
    {
    }
}
interface Weather
{
}
class Board
{
    public ?Clock $clock = null;
    public string $title = '';

    public function __construct(public iterable $parts)
    {
    }

    public function setClock(Clock $clock): void
    {
        $this->clock = $clock;
    }
}
