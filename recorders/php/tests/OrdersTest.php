<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use PHPUnit\Framework\TestCase;

/** A process that stays is switched by its service, while it runs. */
final class OrdersTest extends TestCase
{
    use WithFolder;

    private string $service;
    /** @var ?resource */
    private $server;

    protected function setUp(): void
    {
        $this->makeFolder();
        $free = stream_socket_server('tcp://127.0.0.1:0');
        $address = stream_socket_get_name($free, false);
        fclose($free);
        $null = ['file', '/dev/null', 'w'];
        $command = [PHP_BINARY, '-S', $address, __DIR__ . '/order.php'];
        $this->server = proc_open($command, [1 => $null, 2 => $null], $pipes, null, ['ORDERS' => $this->folder]);
        $this->service = "http://$address";
        for ($until = microtime(true) + 10; !($up = @stream_socket_client("tcp://$address")) && microtime(true) < $until;) {
            usleep(10_000);
        }
        fclose($up);
    }

    protected function tearDown(): void
    {
        $this->stop();
        $this->dropFolder();
    }

    private function stop(): void
    {
        if ($this->server !== null) {
            proc_terminate($this->server);
            proc_close($this->server);
            $this->server = null;
        }
    }

    /** @param array<string, mixed> $order */
    private function order(array $order): void
    {
        file_put_contents("$this->folder/new", json_encode($order));
        rename("$this->folder/new", "$this->folder/order");
    }

    /** Does its work again and again, until what is waited for has come. */
    private static function until(Recorder $recorder, \Closure $come): void
    {
        for ($until = microtime(true) + 20; !$come() && microtime(true) < $until;) {
            $recorder->tick();
            usleep(5_000);
        }
        self::assertTrue($come(), 'it does not come');
    }

    public function testOnAndOff(): void
    {
        $this->order(['version' => 1, 'on' => false, 'share' => 1, 'for_ns' => 0, 'bytes' => 0]);
        $recorder = new Recorder(new Settings('harbour', resident: true, off: true, service: $this->service));
        self::assertFalse($recorder->on());
        self::until($recorder, fn (): bool => is_file("$this->folder/asked"));
        $this->order(['version' => 2, 'on' => true, 'share' => 1, 'for_ns' => 0, 'bytes' => 0]);
        self::until($recorder, $recorder->on(...));
        $recorder->close($recorder->open('job', 'first'));
        $this->order(['version' => 3, 'on' => false, 'share' => 1, 'for_ns' => 0, 'bytes' => 0]);
        self::until($recorder, static fn (): bool => !$recorder->on());
        $recorder->close($recorder->open('job', 'unseen'));
        // A service that lost its orders counts from the start again. This one ends by itself.
        $this->order(['version' => 1, 'on' => true, 'share' => 0.5, 'for_ns' => 0, 'bytes' => 700]);
        self::until($recorder, $recorder->on(...));
        for ($n = 0; $recorder->on() && $n < 100; $n++) {
            $recorder->close($recorder->open('job', 'last'));
        }
        self::assertSame('', $recorder->end());
        $lines = array_map(static fn (string $line): array => json_decode($line, true), file("$this->folder/taken"));
        $said = array_map(static fn (array $line): string => trim($line['ev'] . ' ' . ($line['why'] ?? '')), $lines);
        self::assertSame(['hello', 'open', 'close', 'bye recording was switched off', 'hello', 'open', 'close'], array_slice($said, 0, 7));
        self::assertSame('bye recording reached its limit', $said[count($said) - 1]);
        self::assertSame([null, 2], [$lines[1]['weight'] ?? null, $lines[5]['weight']]);
        $asked = array_map(static fn (string $line): array => json_decode($line, true), file("$this->folder/asked"));
        self::assertSame([false, 0, ''], [$asked[0]['on'], $asked[0]['knows'], $asked[0]['stream']]);
        self::assertSame(4, max(array_column($asked, 'events')));
    }

    /** What is not delivered is held within the bound, and left out by whole scopes. */
    public function testNobodyTakesIt(): void
    {
        $this->stop();
        $log = ini_set('error_log', '/dev/null');
        $recorder = new Recorder(new Settings('harbour', resident: true, service: $this->service, alone: true, flushWithin: 0.05));
        $before = memory_get_usage();
        for ($n = 0; $n < 3000; $n++) {
            $scope = $recorder->open('job', 'all the same');
            for ($k = 0; $k < 10; $k++) {
                $recorder->say('fail', ['service' => str_repeat('x', 900) . $n . $k, 'why' => 'error']);
            }
            $recorder->close($scope);
        }
        self::assertLessThan(2 * Recorder::MAX_BYTES, memory_get_usage() - $before);
        self::assertGreaterThan(0, $recorder->totals()['lost']);
        self::assertStringContainsString('not delivered', $recorder->end());
        ini_set('error_log', (string) $log);
    }
}
