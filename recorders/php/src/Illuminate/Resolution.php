<?php

declare(strict_types=1);

namespace KeenLantern\Record\Illuminate;

/** A name that is being resolved, and what has been resolved for it. */
final class Resolution
{
    public ?object $object = null;
    public int $ended = 0;
    public int $layers = 0;
    public ?Resolution $leadsTo = null;
    public bool $external = false;
    public bool $handedIn = false; // in place of one that was built
    public bool $circular = false;
    public bool $failed = false;
    /** @var list<Resolution> what was resolved meanwhile and is not told yet */
    public array $inner = [];
    /** @var list<array<string, mixed>> what it was given that has been told */
    public array $given = [];

    /**
     * @param int $began when it began to be resolved, by hrtime
     * @param ?string $key what tells its instances apart from others of its name
     * @param ?Resolution $outer which it is resolved for, while it is
     * @param ?string $tag of which it is one of all that have it
     */
    public function __construct(
        public readonly string $name,
        public readonly ?string $key,
        public readonly int $began,
        public ?Resolution $outer = null,
        public readonly ?string $tag = null,
    ) {
    }
}
