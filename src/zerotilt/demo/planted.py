"""What was put into the demo claims on purpose, so that tests can ask whether it is found.

1. Missed scans lower the score although they come from ferry transfers; ferry legs and postal district stand for home area.
2. Past refusals in the labels hit the outer isles, so labels are tilted there, and decisions more so.
3. Packaging grade and weight interact: weight matters only for grades C and D.
4. Account age rises, then is flat; for shops it falls.
5. A pocket of errors: telephone claims with weight over 10 kg.
6. Dropping rows with missing account age removes older customers far more often.
7. The reference photo score leaks the outcome.
8. An overall gap between languages vanishes within home area.
"""

TILTED_AREA = "outer isles"
REFERENCE_AREA = "harbour town"
POCKET = {"channel": "telephone", "parcel_weight": 10.0}
POCKET_GROUP = "telephone · parcel weight over 10"
"""How that pocket is named as a group of the intersection channel × parcel weight."""
LOWERING_FEATURE = "missed_scans"
LEAK = "reference_photo_score"
