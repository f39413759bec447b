<?php

declare(strict_types=1);

namespace KeenLantern\Record\Tests;

use KeenLantern\Record\RecordedContainer;
use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use PHPUnit\Framework\TestCase;
use Pimple\Container as Pimple;
use Pimple\Psr11\Container as PimpleContainer;
use Psr\Container\NotFoundExceptionInterface;

/** Records Pimple, whose factories ask the container itself, unless they are given what stands before it. */
final class RecordedContainerTest extends TestCase
{
    use WithFolder;

    private Recorder $recorder;

    protected function setUp(): void
    {
        $this->makeFolder();
        $this->recorder = new Recorder(new Settings('harbour', $this->folder));
    }

    protected function tearDown(): void
    {
        $this->dropFolder();
    }

    /** @return list<array<string, mixed>> */
    private function told(string $kind): array
    {
        $this->recorder->end();
        $lines = array_map(json_decode(...), file(glob($this->folder . '/*')[0]));
        return array_values(array_filter(array_map(get_object_vars(...), $lines), static fn (array $line): bool => $line['ev'] === $kind));
    }

    public function testWhatIsBuiltForWhom(): void
    {
        $pimple = new Pimple();
        $ask = new RecordedContainer(new PimpleContainer($pimple), $this->recorder, ['clock' => 'singleton', 'page' => 'transient']);
        $pimple['clock'] = fn () => new \ArrayObject();
        $pimple['page'] = $pimple->factory(fn () => new \ArrayIterator([$ask->get('clock'), $ask->get('clock')]));
        $pimple['title'] = 'no object';
        $first = $ask->get('page');
        self::assertSame($first[0], $ask->get('clock'));
        self::assertNotSame($first, $ask->get('page'));
        self::assertSame('no object', $ask->get('title'));
        self::assertTrue($ask->has('page'));

        $makes = $this->told('make');
        self::assertSame(['ArrayObject', 'ArrayIterator', 'ArrayIterator'], array_column($makes, 'impl'));
        self::assertEquals([(object) ['inst' => 1, 'service' => 'clock'], (object) ['inst' => 1, 'service' => 'clock']], $makes[1]['with']);
        self::assertSame([2, 1, 3], array_column($this->told('give'), 'inst'));
        self::assertSame(['clock', 'page'], array_column($this->told('register'), 'service'));
        self::assertSame(['singleton', 'transient'], array_column($this->told('register'), 'lifetime'));
    }

    public function testWhatItCannotSeeItSays(): void
    {
        $pimple = new Pimple();
        $pimple['clock'] = fn () => new \ArrayObject();
        $pimple['page'] = fn (Pimple $c) => new \ArrayIterator([$c['clock']]);
        (new RecordedContainer(new PimpleContainer($pimple), $this->recorder, nested: false))->get('page');
        self::assertSame([['shared', 'closes', 'fail']], array_column($this->told('register'), 'sees'));
        self::assertArrayNotHasKey('with', $this->told('make')[0]);
    }

    public function testFailures(): void
    {
        $pimple = new Pimple();
        $ask = new RecordedContainer(new PimpleContainer($pimple), $this->recorder);
        $pimple['desk'] = fn () => new \ArrayIterator([$ask->get('weather')]);
        $pimple['broken'] = fn () => throw new \DomainException('with a secret');
        $refused = 0;
        foreach (['desk', 'none', 'broken'] as $id) {
            try {
                $ask->get($id);
            } catch (NotFoundExceptionInterface | \DomainException) {
                $refused++;
            }
        }
        self::assertSame(3, $refused, 'the application sees what it would see without');
        self::assertSame(['weather', 'none'], array_column($this->told('fail'), 'service'));
        self::assertSame(['missing', 'missing'], array_column($this->told('fail'), 'why'));
        self::assertStringNotContainsString('secret', (string) file_get_contents(glob($this->folder . '/*')[0]));
        self::assertArrayHasKey('error', $this->told('fail')[0], 'the class of a failure is told');
        $pimple['late'] = fn () => new \ArrayObject();
        self::assertInstanceOf(\ArrayObject::class, $ask->get('late'), 'it goes on');
    }
}
