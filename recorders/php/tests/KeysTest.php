<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use KeenLantern\Record\Keys;
use PHPUnit\Framework\TestCase;
use Saltmarsh\Harbour\Port;

final class KeysTest extends TestCase
{
    public function testKeysOfAnyTypeAreToldApart(): void
    {
        $keys = new Keys();
        $north = new class () {
            public function __toString(): string
            {
                throw new \LogicException('a key was asked to print itself');
            }
        };
        $south = clone $north;
        self::assertSame('1', $keys->text('1'));
        self::assertSame('(int) 1', $keys->text(1));
        self::assertSame('(bool) true', $keys->text(true));
        self::assertSame('(' . Port::class . ') One', $keys->text(Port::One));
        self::assertSame('(' . $north::class . ') #1', $keys->text($north));
        self::assertSame('(' . $north::class . ') #2', $keys->text($south));
        self::assertSame('(' . $north::class . ') #1', $keys->text($north));
        self::assertSame('(text) (int) 1', $keys->text('(int) 1'));
        self::assertSame('(null)', $keys->text(null));
    }

    public function testWhatIsNotRegisteredIsWrittenUpToABoundOrNotAtAll(): void
    {
        foreach ([[false, 256], [true, 0]] as [$hide, $most]) {
            $keys = new Keys($hide);
            $named = [];
            for ($n = 0; $n < 1000; $n++) {
                $fail = $keys->unregistered(['service' => 'WeatherReport', 'key' => 'typed-' . $n % 500, 'why' => 'missing']);
                self::assertSame('WeatherReport', $fail['service']);
                if ($fail['key'] !== Keys::NOT_REGISTERED) {
                    $named[$fail['key']] = true;
                }
            }
            self::assertCount($most, $named);
        }
    }
}
