/** The checklist of a new tenant: what is done, what is next, and that it goes away. */
import {cleanup, screen, waitFor} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import {open, serviceWith} from '../../testing';
import {Checklist} from './Checklist';

const steps = (done: boolean[]) =>
  done.map((each, n) => ({step: 'domain', title: `Step ${n}`, done: each, text: 'why', path: `/p${n}`, command: ''}));
const PATH = 'GET /api/v1/tenants/copperline/checklist';

describe('the checklist', () => {
  afterEach(() => {
    cleanup();
    localStorage.clear();
  });

  it('leads to what is not done', async () => {
    serviceWith({[PATH]: {steps: steps([true, false, false]), done: false}});
    open(<Checklist tenant="copperline" />, '/');
    expect(await screen.findByText('Step 0: done')).toBeTruthy();
    expect(screen.getByRole('link', {name: 'Step 1'}).getAttribute('href')).toBe('/p1');
    expect(screen.getByText('1 of 3 done')).toBeTruthy();
  });

  it('is not there when all is done', async () => {
    const seen = serviceWith({[PATH]: {steps: steps([true]), done: true}});
    open(<Checklist tenant="copperline" />, '/');
    await waitFor(() => expect(seen).toHaveLength(1));
    expect(screen.queryByText('Set up')).toBeNull();
  });

  it('stays hidden for those who hid it', async () => {
    serviceWith({[PATH]: {steps: steps([false]), done: false}});
    open(<Checklist tenant="copperline" />, '/');
    await userEvent.click(await screen.findByRole('button', {name: 'Hide'}));
    expect(screen.queryByText('Step 0')).toBeNull();
    cleanup();
    open(<Checklist tenant="copperline" />, '/');
    expect(screen.queryByText('Step 0')).toBeNull();
  });
});
