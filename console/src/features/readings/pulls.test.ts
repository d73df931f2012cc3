import {describe, expect, it} from 'vitest';
import {eventsOfMove} from './MovedCard';
import {eventsOf} from './PullsCard';

const pull = {
  factor: 'invalid_addresses' as const,
  provider: 'tidepost.example',
  label: 'Tidepost',
  points: 4,
  unit: 'rate' as const,
  measure: 0.1,
  low: 0.1,
  high: 0.1,
  watch: 0.01,
  stop: 0.05,
  days: 7,
  elsewhere: false,
  measured: true,
  kinds: ['bounced'],
  causes: ['no_such_mailbox', 'mailbox_disabled'],
};
const domain = {subject: 'domain', name: 'marram.example'};

describe('the events of a pull', () => {
  it('are those of its kinds and causes at its provider, up to the day that is shown', () => {
    const asked = new URL(eventsOf(pull, 'office', domain, '2026-03-14')!, 'http://localhost').searchParams;
    expect(Object.fromEntries(asked)).toEqual({
      tenant: 'office',
      view: 'trails',
      domain: 'marram.example',
      kind: 'bounced',
      cause: 'no_such_mailbox,mailbox_disabled',
      provider: 'tidepost.example',
      since: '2026-03-08T00:00:00Z',
      until: '2026-03-15T00:00:00Z',
    });
  });
  it('of today go on', () => {
    const today = new Date().toISOString().slice(0, 10);
    expect(eventsOf(pull, 'office', domain, today)).not.toContain('until');
  });
  it.each([
    [
      {...pull, factor: 'record_faults' as const, kinds: [], causes: []},
      domain,
      '/domains/office/marram.example?view=records',
    ],
    [{...pull, factor: 'held' as const, kinds: [], causes: []}, domain, '/suppression?tenant=office'],
    [{...pull, factor: 'record_faults' as const, kinds: [], causes: []}, {subject: 'ip', name: '192.0.2.1'}, undefined],
  ])('or of what else made it', (one, of, path) => {
    expect(eventsOf(one, 'office', of, '2026-03-14')).toBe(path);
  });
  it.each(['stream', 'relay', 'ip'])('of a %s are narrowed to it', (subject) => {
    expect(eventsOf(pull, 'office', {subject, name: '192.0.2.1'}, '2026-03-14')).toContain(`&${subject}=192.0.2.1&`);
  });
  it('of a move are those of the day on which it took more', () => {
    const reading = (day: string, pulls: unknown[]) =>
      ({day, value: 50, margin: 1, condition: 'corroded', mail: 100, provisional: false, pulls}) as never;
    const found = {
      subject: 'domain' as const,
      name: 'marram.example',
      first: reading('2026-03-01', []),
      last: reading('2026-03-14', [pull]),
      factors: [],
      moves: [],
      streams: [],
      annotations: [],
    };
    const move = {
      factor: pull.factor,
      provider: pull.provider,
      label: '',
      before: 0,
      after: 9,
      change: 9,
      unit: 'rate' as const,
      measure_before: 0,
      measure_after: 0.1,
    };
    expect(eventsOfMove(move, found, 'office')).toBe(eventsOf(pull, 'office', domain, '2026-03-14'));
    expect(eventsOfMove({...move, before: 9, after: 0}, found, 'office')).toBeUndefined();
  });
  it('of the other providers are not narrowed to one', () => {
    expect(
      eventsOf(
        {...pull, provider: '(other)', causes: []},
        'office',
        {subject: 'relay', name: 'driftline'},
        '2026-03-14',
      ),
    ).toMatch(/relay=driftline&kind=bounced&since=/);
  });
});
