"""What a printer is: kinematics, plate, supports, adjusters, probe and reach."""
