<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/**
 * Delivers lines to a service: in numbered batches, one at a time, each until the service acknowledges just that one.
 *
 * @internal
 */
final class ServiceSink implements Sink
{
    private const FIRST_WAIT = 0.1; // s between tries
    private const LAST_WAIT = 5.0;

    /** @var list<Batch> those that wait; the first may be on its way */
    private array $batches = [];
    private int $bytes = 0;
    private ?Exchange $exchange = null;
    private float $wait = self::FIRST_WAIT;
    private int $next = 0; // when the next try may begin, by hrtime
    private string $trouble = '';

    public function __construct(private readonly Settings $settings)
    {
    }

    public function take(Stream $stream, string $lines): string
    {
        if ($stream->refused) {
            return $this->trouble;
        }
        $this->bytes += \strlen($lines);
        $last = $this->batches === [] ? null : $this->batches[\count($this->batches) - 1];
        if ($last !== null && $last->stream === $stream && $last->packed === '' && \strlen($last->text) + \strlen($lines) <= $this->settings->batch) {
            $last->text .= $lines;
        } else {
            $this->batches[] = new Batch($stream, ++$stream->batches, $lines);
        }
        return $this->step();
    }

    public function held(): int
    {
        return $this->bytes;
    }

    public function step(): string
    {
        while (true) {
            if ($this->exchange === null && !$this->begin()) {
                return '';
            }
            if (!$this->exchange->step()) {
                return '';
            }
            $refused = $this->ended($this->exchange);
            $this->exchange = null;
            if ($refused !== '') {
                return $refused;
            }
        }
    }

    public function finish(float $seconds): string
    {
        $until = \hrtime(true) + (int) ($seconds * 1e9);
        $this->wait = \min($this->wait, self::FIRST_WAIT);
        while (($refused = $this->step()) === '' && $this->batches !== []) {
            $left = ($until - \hrtime(true)) / 1e9;
            if ($left <= 0) {
                $this->exchange?->cancel();
                return \count($this->batches) . ' batches were not delivered: ' . ($this->trouble ?: 'there was no time');
            }
            if ($this->exchange !== null) {
                $this->exchange->wait(\min($left, 0.1));
            } else {
                \usleep((int) (\min($left, \max(0.001, ($this->next - \hrtime(true)) / 1e9)) * 1e6));
            }
        }
        return $refused;
    }

    /** Begins to send the first batch, unless there is none or it is too early. */
    private function begin(): bool
    {
        if ($this->batches === [] || \hrtime(true) < $this->next) {
            return false;
        }
        $batch = $this->batches[0];
        if ($batch->packed === '') {
            // From now on it is as it is: the same number is never sent with other lines.
            $batch->packed = (string) \gzencode($batch->text, 1);
            $this->bytes -= \strlen($batch->text) - \strlen($batch->packed);
            $batch->text = '';
        }
        $headers = ['Content-Type' => 'application/x-ndjson', 'Content-Encoding' => 'gzip'] + self::authorization($this->settings);
        $path = '/api/v1/streams/' . $batch->stream->id . '/batches/' . $batch->number;
        $this->exchange = new Exchange($this->settings->service, $path, $batch->packed, $headers, $this->settings->timeout);
        return true;
    }

    /** @return array<string, string> */
    public static function authorization(Settings $settings): array
    {
        return $settings->token === '' ? [] : ['Authorization' => 'Bearer ' . $settings->token];
    }

    /** The result of a try. @return string why the stream is refused for good, '' otherwise */
    private function ended(Exchange $exchange): string
    {
        $batch = $this->batches[0];
        $after = 0.0;
        $status = $exchange->status;
        if ($exchange->error !== '') {
            $this->trouble = $exchange->error;
        } elseif ($status === 429 || $status >= 500) {
            $this->trouble = "the service answers $status";
            $after = (float) ($exchange->headers['retry-after'] ?? 0);
        } elseif ($status >= 400 && self::isProblem($exchange)) {
            return $this->refused($batch->stream, "batches were refused: the service answers $status");
        } elseif (self::acknowledges($exchange, $batch)) {
            \array_shift($this->batches);
            $this->bytes -= \strlen($batch->packed);
            $this->wait = self::FIRST_WAIT;
            $this->next = 0;
            return '';
        } else {
            $this->trouble = "what answers at {$this->settings->service} does not acknowledge batches; is that a Keen Lantern service?";
            $after = self::LAST_WAIT;
        }
        // Spread over half of its length, so that many workers do not try again at the same moment.
        $wait = $this->wait * (0.5 + \mt_rand() / \mt_getrandmax());
        $this->next = \hrtime(true) + (int) (\max($wait, \min($after, self::LAST_WAIT)) * 1e9);
        $this->wait = \min(2 * $this->wait, self::LAST_WAIT);
        return '';
    }

    /** Only a problem document of the service is final: the error page of a proxy may be temporary. */
    private static function isProblem(Exchange $exchange): bool
    {
        return \trim(\explode(';', $exchange->headers['content-type'] ?? '')[0]) === 'application/problem+json';
    }

    /** Only the service's own word that it has just this batch counts: a proxy's page is no acknowledgement. */
    private static function acknowledges(Exchange $exchange, Batch $batch): bool
    {
        $said = self::said($exchange);
        return ($said['stream'] ?? null) === $batch->stream->id && ($said['batch'] ?? null) === $batch->number;
    }

    /** @return array<string, mixed> the JSON object that a service answers with, empty for anything else */
    public static function said(Exchange $exchange): array
    {
        $type = \trim(\explode(';', $exchange->headers['content-type'] ?? '')[0]);
        $said = $exchange->status === 200 && $type === 'application/json' ? \json_decode($exchange->body, true, 16) : null;
        return \is_array($said) ? $said : [];
    }

    private function refused(Stream $stream, string $why): string
    {
        $this->trouble = $why;
        $stream->refused = true;
        $this->batches = \array_values(\array_filter($this->batches, static fn (Batch $batch): bool => $batch->stream !== $stream));
        $this->bytes = \array_sum(\array_map(static fn (Batch $batch): int => \strlen($batch->text) + \strlen($batch->packed), $this->batches));
        return $why;
    }
}
