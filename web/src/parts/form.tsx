import { Field, type FieldRootProps } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import type { ReactNode } from 'react';
import type { FieldValues, Path, UseFormReturn } from 'react-hook-form';
import { Refusal } from '../api/client';
import { MainButton, QuietButton } from './sheet';

/** A field of a form: its label, what helps, and what is wrong with it. */
export function Entry({
  label,
  help,
  error,
  children,
  ...rest
}: FieldRootProps & { label: ReactNode; help?: ReactNode; error?: { message?: string } }) {
  return (
    <Field.Root invalid={!!error} {...rest}>
      <Field.Label>{label}</Field.Label>
      {children}
      {help && !error && <Field.HelperText>{help}</Field.HelperText>}
      {error && <Field.ErrorText>{error.message || t`This is to be filled in.`}</Field.ErrorText>}
    </Field.Root>
  );
}

/** How a small form ends that changes nothing before it is seen what it does. */
export function FormEnd({ onCancel }: { onCancel: () => void }) {
  return (
    <>
      <QuietButton size="sm" onClick={onCancel}>
        <Trans>Cancel</Trans>
      </QuietButton>
      <MainButton size="sm" type="submit">
        <Trans>See what it does</Trans>
      </MainButton>
    </>
  );
}

/**
 * Puts what the service refuses at the fields that it is about; names says what its words for them are in the form, where they differ.
 * It says whether there was a place for all of it.
 */
export function placeRefusal<T extends FieldValues>(
  error: unknown,
  form: UseFormReturn<T>,
  names: Record<string, Path<T>> = {},
  shouldFocus = true, // not while somebody is still filling it in
): boolean {
  if (!(error instanceof Refusal) || error.fields.length === 0) return false;
  const known = form.getValues();
  let all = true;
  for (const f of error.fields) {
    const last =
      f.at
        .replace(/\[\d+\]$/, '')
        .split('.')
        .pop() ?? '';
    const name = names[f.at.replace(/^.*\]\.(with|of)\./, '')] ?? names[last] ?? (last as Path<T>);
    if (name in known) form.setError(name, { message: f.says }, { shouldFocus });
    else all = false;
  }
  return all;
}
