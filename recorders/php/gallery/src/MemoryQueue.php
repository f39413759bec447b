<?php

declare(strict_types=1);

namespace Gallery;

use Illuminate\Contracts\Queue\Queue as QueueContract;
use Illuminate\Queue\Connectors\ConnectorInterface;
use Illuminate\Queue\Queue;

/** A queue that lives as long as its process. */
final class MemoryQueue extends Queue implements QueueContract, ConnectorInterface
{
    /** @var list<string> */
    private array $payloads = [];

    public function connect(array $config): QueueContract
    {
        return $this;
    }

    public function size($queue = null): int
    {
        return count($this->payloads);
    }

    public function push($job, $data = '', $queue = null): void
    {
        $this->pushRaw($this->createPayload($job, $queue ?? 'default', $data), $queue);
    }

    public function pushRaw($payload, $queue = null, array $options = []): void
    {
        $this->payloads[] = $payload;
    }

    public function later($delay, $job, $data = '', $queue = null): void
    {
        $this->push($job, $data, $queue);
    }

    public function pop($queue = null): ?MemoryJob
    {
        $payload = array_shift($this->payloads);
        return $payload === null ? null : new MemoryJob($this->container, $payload, $this->connectionName, $queue ?? 'default');
    }
}
