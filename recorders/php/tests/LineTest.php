<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use KeenLantern\Record\Line;
use PHPUnit\Framework\SkippedTest;
use PHPUnit\Framework\TestCase;

/** Holds the line writer to testdata/recorder/lines.json, byte for byte. */
final class LineTest extends TestCase
{
    /** @return iterable<string, array{array<string, mixed>}> */
    public static function vectors(): iterable
    {
        $text = file_get_contents(__DIR__ . '/../../../testdata/recorder/lines.json');
        foreach (json_decode($text, true, 64, JSON_THROW_ON_ERROR) as $vector) {
            yield $vector['name'] => [$vector];
        }
    }

    /**
     * @dataProvider vectors
     * @param array<string, mixed> $vector
     */
    public function testLine(array $vector): void
    {
        $members = self::event($vector);
        self::assertSame($vector['line'], Line::of($members['ev'], $members['t'], $members));
    }

    /** What is written together is written as one after the other, whatever else is in it. */
    public function testTogether(): void
    {
        $events = $lines = [];
        foreach (self::vectors() as [$vector]) {
            try {
                $members = self::event($vector);
            } catch (SkippedTest) {
                continue;
            }
            $event = [$members['ev'], $members['t'], array_diff_key($members, ['ev' => 0, 't' => 0])];
            self::assertSame($vector['line'], Line::all([$event]));
            $events[] = $event;
            $lines[] = $vector['line'];
        }
        self::assertSame(implode('', $lines), Line::all($events));
        self::assertSame(implode('', array_reverse($lines)), Line::all(array_reverse($events)));
        self::assertSame('', Line::all([]));
    }

    /**
     * @param array<string, mixed> $vector
     * @return array<string, mixed>
     */
    private static function event(array $vector): array
    {
        $members = $vector['event'];
        foreach ($vector['texts'] ?? [] as $name => $text) {
            $members[$name] = match (true) {
                isset($text['utf16']) => self::fromUtf16($text['utf16']),
                isset($text['bytes']) => base64_decode($text['bytes']),
                default => str_repeat($text['repeat'], $text['times']) . ($text['after'] ?? ''),
            };
        }
        return $members;
    }

    /** @param list<int> $units */
    private static function fromUtf16(array $units): string
    {
        $text = pack('n*', ...$units);
        if (!mb_check_encoding($text, 'UTF-16BE')) {
            self::markTestSkipped('a text is bytes of UTF-8 here, and can hold no surrogate alone');
        }
        return mb_convert_encoding($text, 'UTF-8', 'UTF-16BE');
    }
}
