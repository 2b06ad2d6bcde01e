/** A copy of a flow: another name, other values of its settings; its steps stay as they are. */
import { Button, Checkbox, Modal, Select, TagsInput, TextInput, Textarea } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { LosslessNumber } from "lossless-json";
import { useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { call, type FlowPage, type FlowSetting } from "../../api/call";
import { Problem } from "../../parts/bits";
import { asSent, asTyped, type Typed } from "./settings";

export function CopyFlow({ flow, close }: { flow: FlowPage; close: () => void }): ReactNode {
  const client = useQueryClient();
  const go = useNavigate();
  const [name, setName] = useState("");
  const [typed, setTyped] = useState<Record<string, Typed>>(() => Object.fromEntries(flow.settings.map((each) => [each.name, asTyped(each)])));
  const copy = useMutation({
    mutationFn: () => call<{ name: string }>("POST", `/api/flows/${encodeURIComponent(flow.name)}/copy`, { name, settings: asSent(flow.settings, typed, (digits) => new LosslessNumber(digits)) }),
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["flows"] });
      close();
      void go(`/flows/${made.name}`);
    },
  });
  return (
    <Modal opened onClose={close} title={`A copy of ${flow.name}`} size="lg">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          copy.mutate();
        }}
      >
        <TextInput label="What the copy is called" description="Small letters, figures and hyphens." data-autofocus mb={12} value={name} onChange={(event) => setName(event.currentTarget.value)} />
        {flow.settings.length === 0 && <p className="soft">The flow has no settings; the copy does the same. Values that a copy may change are declared under “settings” in the text.</p>}
        {flow.settings.map((each) => (
          <Field key={each.name} setting={each} value={typed[each.name] ?? ""} change={(to) => setTyped({ ...typed, [each.name]: to })} />
        ))}
        <p className="soft small">The copy is switched off until you switch it on.</p>
        {copy.error && <Problem error={copy.error} />}
        <Button type="submit" disabled={!name} loading={copy.isPending}>
          Copy it
        </Button>
      </form>
    </Modal>
  );
}

function Field({ setting, value, change }: { setting: FlowSetting; value: Typed; change: (to: Typed) => void }): ReactNode {
  const about = { label: setting.name, description: setting.about || undefined, mb: 12 };
  if (setting.type === "boolean") return <Checkbox {...about} checked={value === true} onChange={(event) => change(event.currentTarget.checked)} />;
  if (setting.type === "list") return <TagsInput {...about} value={value as string[]} data={setting.options} onChange={change} />;
  if (setting.type === "data") return <Textarea {...about} autosize minRows={3} maxRows={14} ff="monospace" value={value as string} onChange={(event) => change(event.currentTarget.value)} />;
  if (setting.options.length > 0) return <Select {...about} value={value as string} data={setting.options} allowDeselect={false} onChange={(to) => change(to ?? "")} />;
  return <TextInput {...about} type={setting.type === "date" ? "date" : "text"} inputMode={setting.type === "number" ? "decimal" : undefined} value={value as string} onChange={(event) => change(event.currentTarget.value)} />;
}
