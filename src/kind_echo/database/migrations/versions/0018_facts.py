"""A cell keeps what its verdict rests on as facts beside the sentence; cells of before get what is known of them."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    waiting = '{"ground": "under way", "other": "the reference", "found": []}'
    op.add_column("cell", sa.Column("facts", postgresql.JSONB, nullable=False, server_default=waiting))
    # Sentences of earlier rules are read this once; their figures are in what was measured.
    op.execute(
        """
        UPDATE cell SET facts = jsonb_build_object(
          'ground', CASE
            WHEN state = 'failed' THEN 'not rendered'
            WHEN unfit THEN 'unfit'
            WHEN verdict = 'Fail' THEN 'limit broken'
            WHEN verdict = 'No reading' THEN 'no value'
            WHEN verdict = 'Waiting' THEN 'no reference'
            WHEN verdict = 'Changed' THEN 'changed'
            WHEN measured ->> 'identical' = '1.0' OR measured ->> 'identical' = '1' THEN 'identical'
            WHEN analysis_key IS NULL THEN 'not compared'
            WHEN NOT measured ? 'residual_rms' THEN 'null'
            WHEN why LIKE 'No further from %' THEN 'takes'
            ELSE 'rounding' END,
          'other', CASE WHEN why LIKE '%its signal%' THEN 'its signal' ELSE 'the reference' END,
          'why', CASE WHEN state = 'failed' THEN why ELSE '' END,
          'found', CASE
            WHEN state = 'failed' THEN '[]'::jsonb
            WHEN verdict IN ('Fail', 'No reading') THEN coalesce((
              SELECT jsonb_agg(jsonb_build_object('reading', jsonb_build_object(
                'measure', key, 'channel', 'all', 'value', measured -> key,
                'why', CASE WHEN verdict = 'No reading' THEN regexp_replace(why, '^[^:]*: ', '') END)) ORDER BY place)
              FROM jsonb_array_elements_text(broken) WITH ORDINALITY AS listed(key, place)), '[]'::jsonb)
            WHEN measured ? 'residual_rms' AND measured ->> 'identical' IS DISTINCT FROM '1.0' THEN jsonb_build_array(
              jsonb_build_object('reading', jsonb_build_object('measure', 'residual_rms', 'channel', 'all',
                'value', measured -> 'residual_rms', 'why', NULL)))
            ELSE '[]'::jsonb END)
        WHERE state IN ('done', 'failed')
        """
    )


def downgrade() -> None:
    op.drop_column("cell", "facts")
