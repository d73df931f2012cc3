/** The look of a tenant's client reports: sender, colour, logo, closing text. */
import {useState, type FormEvent} from 'react';
import {Link} from 'react-router';
import type {Schemas} from '../../api/client';
import {useDeleteReportLogo, useReportStyle, useSetReportLogo, useSetReportStyle} from '../report/queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Field} from '../../design/Field';
import {FilePicker} from '../../design/FilePicker';
import {FormGrid} from '../../design/Form';
import {Loading, Trouble} from '../../design/Notice';

export function ReportStyleCard({tenant}: {tenant: string}) {
  const style = useReportStyle(tenant);
  return (
    <Card
      title="Client reports"
      note="how they look on the page, on paper, in mail and by a shared link"
      actions={<Link to={`/report?tenant=${tenant}`}>Open the report</Link>}
    >
      {style.isPending && <Loading what="settings" />}
      {style.error && <Trouble error={style.error} />}
      {style.data && (
        <>
          <Look
            key={`${style.data.sender}${style.data.colour}${style.data.closing}`}
            tenant={tenant}
            saved={style.data}
          />
          <Logo tenant={tenant} saved={style.data} />
        </>
      )}
    </Card>
  );
}

function Look({tenant, saved}: {tenant: string; saved: Schemas['ReportStyleShown']}) {
  const change = useSetReportStyle(tenant);
  const [sender, setSender] = useState(saved.sender);
  const [colour, setColour] = useState(saved.colour);
  const [closing, setClosing] = useState(saved.closing);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate({sender, colour: colour.trim(), closing});
  };
  return (
    <>
      <FormGrid onSubmit={submit} needs="operator">
        <Field label="Sender" hint="whose report it is, for example your agency" value={sender} onChange={setSender} />
        <div style={{display: 'flex', gap: 8, alignItems: 'center'}}>
          <Field
            label="Colour"
            hint="#RRGGBB, dark enough to be read on white"
            mono
            value={colour}
            onChange={setColour}
            isRequired
          />
          <input
            type="color"
            aria-label="Choose the colour"
            value={/^#[0-9a-f]{6}$/i.test(colour) ? colour : '#2f7f76'}
            onChange={(event) => setColour(event.target.value.toUpperCase())}
            style={{width: 44, height: 34, padding: 2}}
          />
        </div>
        <div data-wide>
          <Field
            label="Closing text"
            hint="at the end of the report, for example whom to ask"
            lines={2}
            value={closing}
            onChange={setClosing}
          />
        </div>
        <footer>
          <Button type="submit" tone="main" changes needs="operator" isDisabled={change.isPending}>
            Save
          </Button>
          {change.isSuccess && <Small role="status">Saved.</Small>}
        </footer>
      </FormGrid>
      {change.error && <Trouble error={change.error} />}
    </>
  );
}

function Logo({tenant, saved}: {tenant: string; saved: Schemas['ReportStyleShown']}) {
  const upload = useSetReportLogo(tenant);
  const remove = useDeleteReportLogo(tenant);
  const error = upload.error ?? remove.error;
  return (
    <div style={{display: 'grid', gap: 8, marginTop: 20}}>
      <h3>Logo</h3>
      {saved.logo && (
        <div style={{display: 'flex', flexWrap: 'wrap', gap: 12, alignItems: 'center'}}>
          <img
            src={saved.logo.address}
            alt={`Logo of ${saved.sender || 'the reports'}`}
            width={Math.ceil(saved.logo.width / 2)}
            height={Math.ceil(saved.logo.height / 2)}
            style={{background: '#fff', padding: 6}}
          />
          <Button tone="link" changes needs="operator" isDisabled={remove.isPending} onPress={() => remove.mutate()}>
            Delete logo
          </Button>
        </div>
      )}
      <FilePicker
        label={saved.logo ? 'Replace logo' : 'Upload logo'}
        hint="PNG or JPEG, at most 512 KiB; shown up to 240 × 72 pixels on white"
        accept={['image/png', 'image/jpeg']}
        isDisabled={upload.isPending}
        onFile={(file) => upload.mutate(file)}
      />
      {error && <Trouble error={error} />}
    </div>
  );
}
