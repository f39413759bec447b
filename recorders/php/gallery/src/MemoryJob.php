<?php

declare(strict_types=1);

namespace Gallery;

use Illuminate\Container\Container;
use Illuminate\Contracts\Queue\Job as JobContract;
use Illuminate\Queue\Jobs\Job;

/** A job of a MemoryQueue. */
final class MemoryJob extends Job implements JobContract
{
    public function __construct(Container $container, private readonly string $payload, string $connection, string $queue)
    {
        $this->container = $container;
        $this->connectionName = $connection;
        $this->queue = $queue;
    }

    public function attempts(): int
    {
        return 1;
    }

    public function getJobId(): string
    {
        return '';
    }

    public function getRawBody(): string
    {
        return $this->payload;
    }
}
