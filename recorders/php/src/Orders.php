<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * Asks a service again and again whether this process is to be recorded, as docs/recorders.md says, and waits for no answer.
 *
 * @internal
 */
final class Orders
{
    private const SECONDS = 40.0; // a question is answered after some 25 s at the latest
    private const PAUSE = 1.0; // s behind an answer that came sooner
    private const LAST_PAUSE = 30.0;

    private readonly string $id;
    private ?Exchange $exchange = null;
    private int $next = 0;
    private float $pause = self::PAUSE;
    private int $knows = 0;

    public function __construct(private readonly Settings $settings)
    {
        $this->id = \bin2hex(\random_bytes(12));
    }

    /**
     * Does what can be done without waiting.
     *
     * @param \Closure(): array<string, mixed> $doing how the recorder is doing
     * @return ?array{on: bool, share: float, for_ns: int, bytes: int} a new order, if one has come
     */
    public function step(\Closure $doing): ?array
    {
        if ($this->exchange === null) {
            if (\hrtime(true) < $this->next) {
                return null;
            }
            $doing = $doing() + ['knows' => $this->knows, 'version' => $this->settings->version, 'environment' => $this->settings->environment];
            $body = (string) \json_encode($doing);
            $path = '/api/v1/applications/' . \rawurlencode($this->settings->app) . '/recorders/' . $this->id;
            $headers = ['Content-Type' => 'application/json'] + ServiceSink::authorization($this->settings);
            $this->exchange = new Exchange($this->settings->service, $path, $body, $headers, self::SECONDS);
        }
        if (!$this->exchange->step()) {
            return null;
        }
        $said = ServiceSink::said($this->exchange);
        $this->exchange = null;
        $valid = \is_int($said['version'] ?? null) && \is_bool($said['on'] ?? null);
        $this->pause = $valid ? self::PAUSE : \min(2 * $this->pause, self::LAST_PAUSE);
        $this->next = \hrtime(true) + (int) ($this->pause * 1e9);
        if (!$valid || $said['version'] === $this->knows) {
            return null;
        }
        // A service that lost its orders, or another one in its place, counts from the start again.
        $this->knows = $said['version'];
        if ($this->knows <= 0) {
            return null;
        }
        $share = $said['share'] ?? 1;
        return [
            'on' => $said['on'],
            'share' => \is_numeric($share) && $share > 0 && $share <= 1 ? (float) $share : 1.0,
            'for_ns' => \max(0, (int) ($said['for_ns'] ?? 0)),
            'bytes' => \max(0, (int) ($said['bytes'] ?? 0)),
        ];
    }

    /** Asks no longer. */
    public function end(): void
    {
        $this->exchange?->cancel();
        $this->exchange = null;
        $this->next = PHP_INT_MAX;
    }
}
