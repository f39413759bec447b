import type { INestApplication } from '@nestjs/common'
import { NestFactory } from '@nestjs/core'
import { create } from 'keenlantern-record/nest'

import type { Running } from '../running.js'

export const quiet = { logger: false, abortOnError: false } as const

/** Starts to listen, and returns the address. */
export async function listen(app: INestApplication): Promise<string> {
  await app.listen(0, '127.0.0.1')
  return (await app.getUrl()).replace('[::1]', '127.0.0.1')
}

/** Creates an application that is recorded: by a line, or because the recorder is attached to the process. */
export const start = (
  { recorder, attached }: Running,
  module: Parameters<typeof NestFactory.create>[0],
): Promise<INestApplication> => (attached ? NestFactory.create(module, quiet) : create(recorder, module, quiet))
