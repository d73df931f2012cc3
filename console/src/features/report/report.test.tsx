// The client report over a service whose answers stand in a table: what is shown, asked for and said.
import {cleanup, screen} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, requestTo, serviceWith, who, withBrowserParts} from '../../testing';
import {ReportStyleCard} from '../settings/ReportStyleCard';
import {ReportPage} from './ReportPage';

withBrowserParts();
afterEach(cleanup);

const BASE = '/api/v1/tenants/copperline';
const report = {
  title: 'Copperline: mail from 26 Nov to 02 Dec 2026',
  html: '<p>made by the service</p>',
  first: '2026-11-26',
  last: '2026-12-02',
} as Schemas['Report'];
const made: Schemas['MadeReportShare'] = {
  id: 3,
  title: report.title,
  note: 'for Ann',
  created_by: 'Isla Mackay',
  created_at: '2026-12-02T08:00:00Z',
  expires_at: '2027-01-01T08:00:00Z',
  opened: 0,
  opened_at: null,
  url: 'https://gauge.example/shared-report/abc',
};

it('shows the document as clients get it, of the period in the address', async () => {
  const service = serviceWith({[`GET ${BASE}/reports`]: report});
  open(<ReportPage who={who} />, '/report?tenant=copperline&days=30&last=2026-12-02');
  const sheet = await screen.findByTitle(report.title);
  expect(sheet.getAttribute('srcdoc')).toBe(report.html);
  expect(sheet.getAttribute('sandbox')).not.toContain('allow-scripts');
  const asked = await requestTo(service, `GET ${BASE}/reports`);
  expect([asked.query.get('days'), asked.query.get('last')]).toEqual(['30', '2026-12-02']);
});

it('makes a link for the period that is shown, and shows it once', async () => {
  const service = serviceWith({
    [`GET ${BASE}/reports`]: report,
    [`GET ${BASE}/report-shares`]: onePage([]),
    [`POST ${BASE}/report-shares`]: made,
  });
  open(<ReportPage who={who} />, '/report?tenant=copperline&days=14');
  await userEvent.click(await screen.findByRole('button', {name: 'Share'}));
  await userEvent.type(await screen.findByLabelText('For'), 'for Ann');
  await userEvent.click(screen.getByRole('button', {name: 'Make a link'}));
  expect(await screen.findByText(made.url)).toBeTruthy();
  expect((await requestTo(service, `POST ${BASE}/report-shares`)).body).toEqual({
    days: 14,
    valid_days: 30,
    note: 'for Ann',
  });
});

it('saves sender, colour and closing text', async () => {
  const saved: Schemas['ReportStyleShown'] = {sender: '', colour: '#2F7F76', closing: '', logo: null};
  const service = serviceWith({[`GET ${BASE}/report-style`]: saved, [`PUT ${BASE}/report-style`]: saved});
  open(<ReportStyleCard tenant="copperline" />, '/settings/reports');
  await userEvent.type(await screen.findByLabelText('Sender'), 'Skerry');
  await userEvent.click(screen.getByRole('button', {name: 'Save'}));
  const sent = await requestTo(service, `PUT ${BASE}/report-style`);
  expect(sent.body).toEqual({sender: 'Skerry', colour: '#2F7F76', closing: ''});
});
