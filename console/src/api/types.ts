import type { components } from './schema'

type Schemas = components['schemas']

export type Recording = Schemas['Recording']
export type RecordingDetail = Schemas['RecordingDetail']
export type RecordingList = Schemas['RecordingList']
export type Findings = Schemas['Findings']
export type Finding = Schemas['Finding']
export type FindingDetail = Schemas['FindingDetail']
export type Evidence = Schemas['Evidence']
export type Example = Schemas['Example']
export type Ref = Schemas['Ref']
export type Severity = Schemas['Severity']
export type Stream = Schemas['Stream']
export type Session = Schemas['Session']
